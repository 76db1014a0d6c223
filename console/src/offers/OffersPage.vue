<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
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
  { label: gettext('All'), filter: '' },
  { label: gettext('Waiting'), filter: PENDING },
  { label: gettext('Accepted'), filter: 'state eq "accepted"' },
  { label: gettext('Declined'), filter: 'state eq "declined" or state eq "unknown_sender"' },
  { label: gettext('Run out or withdrawn'), filter: 'state eq "run_out" or state eq "withdrawn"' },
]
const COLUMNS = [
  { name: 'to', label: gettext('To'), sort: 'person.name' },
  { name: 'account', label: gettext('Account'), sort: 'account.name' },
  { name: 'what', label: gettext('What') },
  { name: 'reach', label: gettext('Reach') },
  { name: 'sent', label: gettext('Sent'), sort: 'sent_at', quiet: true },
  { name: 'state', label: gettext('State') },
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
  <PageHead docs="how-to/give-access" :title="gettext('Offers')" :words="['offer','term','level']" :about="gettext('Access and ownership that somebody has been offered, and what they answered.')">
    <RouterLink to="/give" class="button-main">{{ gettext('Offer access') }}</RouterLink>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="offers" :choices="CHOICES" />
  <ProblemNote :error="failed" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No offers match.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Offers')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #to="{ row }">{{ row.team ?? row.person.name }}<span class="block text-sm font-normal text-soft">{{ row.team ? gettext('answered by %{person}', { person: row.person.name }) : row.address }}</span></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #what="{ row }">{{ row.kind === 'ownership' ? gettext('its ownership') : row.level }}<span class="block text-sm text-soft"><template v-if="row.part">{{ `${gettext('on %{part},', { part: row.part })} ` }}</template><template v-if="row.kind === 'access'">{{ row.until ? gettext('until %{row}', { row: untilWords(row) }) : gettext('without an end') }}</template></span></template>
    <template #reach="{ row }"><ReachMark :reach="row.kind === 'ownership' ? 4 : (row.reach ?? 1)" /></template>
    <template #sent="{ row }">{{ moment(row.sent_at) }}<span class="block text-sm">{{ gettext('by %{sender}', { sender: row.sender?.name ?? gettext('Open Latch') }) }}<template v-if="row.times_sent > 1">{{ gettext(', %{times_sent} times', { times_sent: row.times_sent }) }}</template></span></template>
    <template #state="{ row }">
      {{ plain(row.state) }}
      <span class="block text-sm text-soft"><template v-if="row.state === 'pending'">{{ gettext('%{opened_at}runs out %{runs_out_at}', { opened_at: row.opened_at ? `${gettext('opened, not answered;')} ` : '', runs_out_at: moment(row.runs_out_at) }) }}</template><template v-else>{{ row.answer }}</template></span>
    </template>
    <template #do="{ row }">
      <span v-if="isMine(row)" class="flex flex-wrap gap-1">
        <RouterLink v-if="row.state === 'pending' && row.kind === 'access' && !row.team" :to="{ path: '/give', query: { offer: row.id } }" class="button">{{ gettext('Change') }}<span class="sr-only">{{ ` ${gettext('the offer to %{person}', { person: row.person.name })}` }}</span></RouterLink>
        <button v-if="row.state === 'pending' || row.state === 'run_out'" class="button" @click="act(row, 'again')">{{ gettext('Send again') }}<span class="sr-only">{{ ` ${gettext('to %{person}', { person: row.person.name })}` }}</span></button>
        <button v-if="row.state === 'pending' || row.state === 'run_out'" class="button" @click="act(row, 'withdraw')">{{ gettext('Withdraw') }}<span class="sr-only">{{ ` ${gettext('the offer to %{person}', { person: row.person.name })}` }}</span></button>
      </span>
    </template>
  </RecordTable>
</template>
