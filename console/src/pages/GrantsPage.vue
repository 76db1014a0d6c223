<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { useList } from '@/data/list'
import { me } from '@/data/me'
import type { GrantRow } from '@/data/types'
import { ago, counted, plain, untilWords } from '@/lib/words'
import HolderName from '@/parts/HolderName.vue'
import ListTools from '@/parts/ListTools.vue'
import PageHead from '@/parts/PageHead.vue'
import ReachMark from '@/parts/ReachMark.vue'
import RecordTable from '@/parts/RecordTable.vue'
import RevokeDialog from '@/parts/RevokeDialog.vue'
import StateNote from '@/parts/StateNote.vue'

const LIVE = 'state ne "ended"'
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<GrantRow>('grants', LIVE)
const picked = ref<string[]>([])
const isEnding = ref(false)
const CHOICES = [
  { label: 'Live', filter: LIVE },
  { label: 'Can spend or steward', filter: `${LIVE} and reach ge "spend"` },
  { label: 'Never used', filter: `${LIVE} and not (last_used_at pr)` },
  { label: 'Outside', filter: `${LIVE} and holder.inside eq false` },
  { label: 'Unrecorded', filter: `${LIVE} and recorded eq false` },
  { label: 'Ended', filter: 'state eq "ended"' },
]
const COLUMNS = [
  { name: 'holder', label: 'Holder', sort: 'holder.name' },
  { name: 'account', label: 'Account', sort: 'account.name' },
  { name: 'level', label: 'Level' },
  { name: 'reach', label: 'Reach', sort: 'reach' },
  { name: 'until', label: 'Until', sort: 'until' },
  { name: 'used', label: 'Used', sort: 'last_used_at' },
  { name: 'state', label: 'State', quiet: true },
]
</script>

<template>
  <PageHead title="Grants" about="Who may act in which account, how far, until when.">
    <button v-if="me?.administrator || me?.owner" class="button-end" :disabled="!picked.length" @click="isEnding = true">{{ picked.length ? `End ${counted(picked.length, 'picked grant')}` : 'Pick grants to end' }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="grants" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No grant is like that." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :rows="rows" :columns="COLUMNS" caption="Grants" :picks="me?.administrator || me?.owner" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #holder="{ row }"><HolderName :holder="row.holder" /></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #level="{ row }">{{ row.level }}</template>
    <template #reach="{ row }"><ReachMark v-if="row.reach" :reach="row.reach" /></template>
    <template #until="{ row }">{{ untilWords(row.until) }}</template>
    <template #used="{ row }">{{ ago(row.last_used_at) }}</template>
    <template #state="{ row }">{{ row.ended_as ? plain(row.ended_as) : plain(row.state) }}<template v-if="!row.recorded">, unrecorded</template><template v-if="row.missing_since">, missing in the system</template></template>
  </RecordTable>
  <RevokeDialog :open="isEnding" :grants="picked" @close="isEnding = false" @started="isEnding = false" />
</template>
