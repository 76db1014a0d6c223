<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { AppRow } from '@/service/types'
import { ago } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<AppRow>('apps')
const router = useRouter()
const isAdding = ref(false)
const CHOICES = [
  { label: gettext('All'), filter: '' },
  { label: gettext('Publisher unknown'), filter: 'not (publisher pr)' },
  { label: gettext('With flags'), filter: 'open_flags gt 0' },
  { label: gettext('Archived'), filter: 'archived eq true' },
]
const COLUMNS = [
  { name: 'name', label: gettext('App'), sort: 'name' },
  { name: 'publisher', label: gettext('Publisher'), sort: 'publisher' },
  { name: 'links', label: gettext('Linked accounts'), sort: 'links' },
  { name: 'used', label: gettext('Used'), sort: 'last_used_at' },
  { name: 'flags', label: gettext('Flags'), sort: 'open_flags' },
]
</script>

<template>
  <PageHead :title="gettext('Apps')" :words="['connected app','link']" :about="gettext('Software that is linked to your accounts, and what it may do there.')">
    <button v-if="me?.administrator" class="button-main" @click="isAdding = true">{{ gettext('Add an app') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="apps" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No apps match. Add apps by hand, import them from a file, or read them from a connected system.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Apps')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }">
      <RouterLink :to="`/apps/${row.id}`" class="link">{{ row.name }}</RouterLink>
      <p class="text-sm font-normal text-soft">{{ row.purpose }}</p>
    </template>
    <template #publisher="{ row }">{{ row.publisher || gettext('nobody known') }}</template>
    <template #links="{ row }">{{ row.links }}</template>
    <template #used="{ row }">{{ ago(row.last_used_at) }}</template>
    <template #flags="{ row }"><span :class="row.open_flags ? 'font-semibold text-rust' : 'text-soft'">{{ row.open_flags }}</span></template>
  </RecordTable>
  <RecordDialog :open="isAdding" kind="apps" @close="isAdding = false" @done="router.push(`/apps/${$event.id}`)" />
</template>
