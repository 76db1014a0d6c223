<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { SessionRow } from '@/service/types'
import { ago, moment, plain } from '@/frame/words'
import HolderName from '@/people/HolderName.vue'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import StateNote from '@/frame/StateNote.vue'

const LIVE = 'not (ended_at pr)'
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<SessionRow>('sessions', LIVE)
const picked = ref<string[]>([])
const isEnding = ref(false)
const CHOICES = [
  { label: gettext('Going on'), filter: LIVE },
  { label: gettext('In sensitive accounts'), filter: `${LIVE} and account.sensitivity ge 3` },
  { label: gettext('Apps'), filter: `${LIVE} and holder.kind eq "app"` },
  { label: gettext('Ended'), filter: 'ended_at pr' },
]
const COLUMNS = [
  { name: 'holder', label: gettext('Who'), sort: 'holder.name' },
  { name: 'account', label: gettext('Account'), sort: 'account.name' },
  { name: 'device', label: gettext('Device') },
  { name: 'place', label: gettext('From'), quiet: true },
  { name: 'started', label: gettext('Started'), sort: 'started_at' },
  { name: 'seen', label: gettext('Last seen'), sort: 'last_seen_at' },
]
</script>

<template>
  <PageHead :title="gettext('Sessions')" :about="gettext('Who is signed in where, on which device, since when.')">
    <button v-if="me?.administrator || me?.owner" class="button-end" :disabled="!picked.length" @click="isEnding = true">{{ picked.length ? gettext('End %{count}', { count: ngettext('%{n} picked session', '%{n} picked sessions', picked.length) }) : gettext('Pick sessions to end') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="sessions" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No sessions match.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :rows="rows" :columns="COLUMNS" :caption="gettext('Sessions')" :picks="me?.administrator || me?.owner" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #holder="{ row }"><HolderName :holder="row.holder" /></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #device="{ row }">{{ row.device }}</template>
    <template #place="{ row }">{{ row.place || row.address }}<span v-if="row.place" class="block text-sm">{{ row.address }}</span></template>
    <template #started="{ row }">{{ moment(row.started_at) }}<span class="block text-sm text-soft">{{ ago(row.started_at) }}</span></template>
    <template #seen="{ row }">{{ row.ended_at ? `${plain(row.ended_as)} ${moment(row.ended_at)}` : moment(row.last_seen_at) }}</template>
  </RecordTable>
  <RevokeDialog :open="isEnding" :sessions="picked" @close="isEnding = false" @started="isEnding = false" />
</template>
