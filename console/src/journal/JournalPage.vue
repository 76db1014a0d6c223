<script setup lang="ts">
import { ref } from 'vue'

import { happening } from './happenings'
import { gettext, pgettext } from '@/frame/language'
import { get } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { JournalRow, JournalVerdict } from '@/service/types'
import { moment } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<JournalRow>('journal')
const verdict = ref<JournalVerdict | null>(null)
const failed = ref<unknown>(null)
const LIST_ARCHIVED = 'openlatch journal archived'
const COLUMNS = [
  { name: 'position', label: gettext('No'), sort: 'position' },
  { name: 'at', label: gettext('When') },
  { name: 'actor', label: gettext('Who') },
  { name: 'action', label: gettext('What') },
  { name: 'subject', label: pgettext('subject', 'On') },
  { name: 'hash', label: gettext('Hash'), quiet: true },
]
const CHOICES = [
  { label: gettext('All'), filter: '' },
  { label: gettext('Revocations'), filter: 'subject.kind eq "revocation" or subject.kind eq "step"' },
  { label: gettext('Decisions'), filter: 'subject.kind eq "item" or subject.kind eq "round"' },
  { label: gettext('Grants'), filter: 'subject.kind eq "grant"' },
  { label: gettext('On somebody’s behalf'), filter: 'on_behalf_of pr' },
]

async function verify(): Promise<void> {
  failed.value = null
  try {
    verdict.value = await get('/journal/verify')
  } catch (problem) {
    failed.value = problem
  }
}

function words(row: JournalRow): string {
  const why = row.facts.reason ?? row.facts.why ?? row.facts.answer
  return typeof why === 'string' ? why : ''
}
</script>

<template>
  <PageHead docs="reference/journal" :title="gettext('Journal')" :about="gettext('Everything that happened, each entry sealed with the one before, so that changes are detected.')">
    <template v-if="me?.administrator">
      <a href="/api/v1/journal/export" class="button" download>{{ gettext('Export') }}</a>
      <button class="button-main" @click="verify">{{ gettext('Verify') }}</button>
    </template>
  </PageHead>
  <ProblemNote :error="failed" />
  <div v-if="verdict" class="card mb-4 p-4" :class="verdict.sound ? 'border-moss' : 'border-rust bg-rust-wash'" role="status">
    <p class="font-semibold">{{ !verdict.sound ? gettext('Not sound: %{faults} faults.', { faults: verdict.faults.length }) : verdict.vouched ? gettext('Nothing is altered: %{entries} entries, the first %{vouched} vouched for by a signed head.', { entries: verdict.entries, vouched: verdict.vouched }) : gettext('Nothing is altered within it: %{entries} entries.', { entries: verdict.entries }) }}</p>
    <p v-if="verdict.sound" class="text-soft">{{ gettext('This is the service’s own word. To verify it independently, export the journal and check it against tree heads kept elsewhere:') }} <code>openlatch journal verify --file … --head …</code></p>
    <p v-if="verdict.sound" class="break-all text-soft">{{ gettext('To prove it later, note this: %{position}:%{hash}', { position: verdict.position, hash: verdict.hash }) }}</p>
    <ul><li v-for="fault in verdict.faults.slice(0, 20)" :key="fault.position + fault.what">{{ gettext('Position %{position}: %{what}', { position: fault.position, what: fault.what }) }}</li></ul>
  </div>
  <p v-if="me?.archived_until" class="mb-3 text-soft">{{ gettext('Entries before %{until} are in the archive. They are verified and exported with these, and listed by:', { until: moment(me.archived_until) }) }} <code>{{ LIST_ARCHIVED }}</code></p>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="entries" list="journal" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No entries match.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Journal entries')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #position="{ row }">{{ row.position }}</template>
    <template #at="{ row }"><span class="whitespace-nowrap">{{ moment(row.at) }}</span></template>
    <template #actor="{ row }">{{ row.actor?.name ?? gettext('Open Latch') }}<span v-if="row.on_behalf_of" class="block text-sm text-soft">{{ gettext('on behalf of %{on_behalf_of}', { on_behalf_of: row.on_behalf_of }) }}</span></template>
    <template #action="{ row }">{{ happening(row.action) }}</template>
    <template #subject="{ row }">{{ row.subject?.name }}<span class="block text-sm text-soft">{{ words(row) }}</span></template>
    <template #hash="{ row }"><code class="text-sm">{{ row.hash.slice(0, 10) }}</code></template>
  </RecordTable>
</template>
