<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { useList } from '@/lists/list'
import { askWhoIam, me } from '@/identity/me'
import type { NoticeRow } from '@/service/types'
import { moment } from '@/frame/words'
import PageHead from '@/frame/PageHead.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, status, error, hasMore, hasLess, more, less, refetch } = useList<NoticeRow>('notices')

async function readAll(): Promise<void> {
  await send('POST', '/notices/read', { notices: [] })
  await askWhoIam()
  refetch()
}
</script>

<template>
  <PageHead :title="gettext('Notices')" :about="gettext('Newest first.')">
    <button class="button" :disabled="!me?.notices" @click="readAll">{{ gettext('Mark all as read') }}</button>
  </PageHead>
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No notices yet.')" @retry="refetch" />
  <ul v-if="rows.length" class="card divide-y divide-line">
    <li v-for="row in rows" :key="row.id" class="flex flex-wrap items-baseline gap-x-4 px-5 py-3" :class="row.read_at ? 'text-soft' : ''">
      <span class="w-36 text-sm text-soft">{{ moment(row.at) }}</span>
      <span class="flex-1" :class="row.read_at ? '' : 'font-medium'">{{ row.sentence }}</span>
      <RouterLink v-if="row.page" :to="row.page" class="link">{{ gettext('Open') }}</RouterLink>
    </li>
  </ul>
  <nav v-if="hasMore || hasLess" :aria-label="gettext('Pages')" class="mt-3 flex gap-2">
    <button class="button" :disabled="!hasLess" @click="less">{{ gettext('Before') }}</button>
    <button class="button" :disabled="!hasMore" @click="more">{{ gettext('Next') }}</button>
  </nav>
</template>
