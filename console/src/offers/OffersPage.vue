<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { send } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { OfferRow } from '@/service/types'
import { moment, plain, untilWords } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'

const PENDING = 'state eq "pending"'
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<OfferRow>('offers', '')
const failed = ref<unknown>(null)
const CHOICES = [
  { label: 'All', filter: '' },
  { label: 'Waiting', filter: PENDING },
  { label: 'Accepted', filter: 'state eq "accepted"' },
  { label: 'Declined', filter: 'state eq "declined" or state eq "unknown_sender"' },
  { label: 'Run out or withdrawn', filter: 'state eq "run_out" or state eq "withdrawn"' },
]
const COLUMNS = [
  { name: 'to', label: 'To', sort: 'person.name' },
  { name: 'account', label: 'Account', sort: 'account.name' },
  { name: 'what', label: 'What' },
  { name: 'reach', label: 'Reach' },
  { name: 'sent', label: 'Sent', sort: 'sent_at', quiet: true },
  { name: 'state', label: 'State' },
  { name: 'do', label: '' },
]

function isMine(row: OfferRow): boolean {
  return Boolean(me.value?.administrator || me.value?.owner || me.value?.inside) && row.person.id !== me.value?.person.id
}

async function act(row: OfferRow, what: 'again' | 'withdraw'): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/offers/${row.id}/${what}`, undefined, what === 'withdraw' ? { 'If-Match': `"${row.version}"` } : {})
  } catch (problem) {
    failed.value = problem
  }
  refetch()
}
</script>

<template>
  <PageHead title="Offers" about="Access and ownership that somebody has been offered, and what they answered.">
    <RouterLink to="/give" class="button-main">Offer access</RouterLink>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="offers" :choices="CHOICES" />
  <ProblemNote :error="failed" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No offers match." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="Offers" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #to="{ row }">{{ row.team ?? row.person.name }}<span class="block text-sm font-normal text-soft">{{ row.team ? `answered by ${row.person.name}` : row.address }}</span></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #what="{ row }">{{ row.kind === 'ownership' ? 'its ownership' : row.level }}<span class="block text-sm text-soft"><template v-if="row.part">on {{ row.part }}, </template><template v-if="row.kind === 'access'">{{ row.until ? `until ${untilWords(row)}` : 'without an end' }}</template></span></template>
    <template #reach="{ row }"><ReachMark :reach="row.kind === 'ownership' ? 4 : (row.reach ?? 1)" /></template>
    <template #sent="{ row }">{{ moment(row.sent_at) }}<span class="block text-sm">by {{ row.sender?.name ?? 'Open Latch' }}<template v-if="row.times_sent > 1">, {{ row.times_sent }} times</template></span></template>
    <template #state="{ row }">
      {{ plain(row.state) }}
      <span class="block text-sm text-soft"><template v-if="row.state === 'pending'">{{ row.opened_at ? 'opened, not answered; ' : '' }}runs out {{ moment(row.runs_out_at) }}</template><template v-else>{{ row.answer }}</template></span>
    </template>
    <template #do="{ row }">
      <span v-if="isMine(row)" class="flex flex-wrap gap-1">
        <RouterLink v-if="row.state === 'pending' && row.kind === 'access' && !row.team" :to="{ path: '/give', query: { offer: row.id } }" class="button">Change<span class="sr-only"> the offer to {{ row.person.name }}</span></RouterLink>
        <button v-if="row.state === 'pending' || row.state === 'run_out'" class="button" @click="act(row, 'again')">Send again<span class="sr-only"> to {{ row.person.name }}</span></button>
        <button v-if="row.state === 'pending' || row.state === 'run_out'" class="button" @click="act(row, 'withdraw')">Withdraw<span class="sr-only"> the offer to {{ row.person.name }}</span></button>
      </span>
    </template>
  </RecordTable>
</template>
