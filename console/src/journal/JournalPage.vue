<script setup lang="ts">
import { ref } from 'vue'

import { get } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { JournalRow, JournalVerdict } from '@/service/types'
import { moment, plain } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<JournalRow>('journal')
const verdict = ref<JournalVerdict | null>(null)
const failed = ref<unknown>(null)
const COLUMNS = [
  { name: 'position', label: 'No', sort: 'position' },
  { name: 'at', label: 'When' },
  { name: 'actor', label: 'Who' },
  { name: 'action', label: 'What' },
  { name: 'subject', label: 'On' },
  { name: 'hash', label: 'Hash', quiet: true },
]
const CHOICES = [
  { label: 'All', filter: '' },
  { label: 'Revocations', filter: 'subject.kind eq "revocation" or subject.kind eq "step"' },
  { label: 'Decisions', filter: 'subject.kind eq "item" or subject.kind eq "round"' },
  { label: 'Grants', filter: 'subject.kind eq "grant"' },
  { label: 'On somebody’s behalf', filter: 'on_behalf_of pr' },
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
  <PageHead title="Journal" about="Everything that happened, each entry sealed with the one before, so that changes are detected.">
    <template v-if="me?.administrator">
      <a href="/api/v1/journal/export" class="button" download>Export</a>
      <button class="button-main" @click="verify">Verify</button>
    </template>
  </PageHead>
  <ProblemNote :error="failed" />
  <div v-if="verdict" class="card mb-4 p-4" :class="verdict.sound ? 'border-moss' : 'border-rust bg-rust-wash'" role="status">
    <p class="font-semibold">{{ !verdict.sound ? `Not sound: ${verdict.faults.length} faults.` : verdict.vouched ? `Nothing is altered: ${verdict.entries} entries, the first ${verdict.vouched} vouched for by a signed head.` : `Nothing is altered within it: ${verdict.entries} entries.` }}</p>
    <p v-if="verdict.sound" class="text-soft">This is the service’s own word. To verify it independently, export the journal and check it against tree heads kept elsewhere: <code>openlatch journal verify --file … --head …</code></p>
    <p v-if="verdict.sound" class="break-all text-soft">To prove it later, note this: {{ verdict.position }}:{{ verdict.hash }}</p>
    <ul><li v-for="fault in verdict.faults.slice(0, 20)" :key="fault.position + fault.what">Position {{ fault.position }}: {{ fault.what }}</li></ul>
  </div>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="entries" list="journal" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No entries match." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="Journal entries" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #position="{ row }">{{ row.position }}</template>
    <template #at="{ row }"><span class="whitespace-nowrap">{{ moment(row.at) }}</span></template>
    <template #actor="{ row }">{{ row.actor?.name ?? 'Open Latch' }}<span v-if="row.on_behalf_of" class="block text-sm text-soft">on behalf of {{ row.on_behalf_of }}</span></template>
    <template #action="{ row }">{{ plain(row.action).replace('.', ' ') }}</template>
    <template #subject="{ row }">{{ row.subject?.name }}<span class="block text-sm text-soft">{{ words(row) }}</span></template>
    <template #hash="{ row }"><code class="text-sm">{{ row.hash.slice(0, 10) }}</code></template>
  </RecordTable>
</template>
