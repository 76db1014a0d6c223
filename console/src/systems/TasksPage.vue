<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { useList } from '@/lists/list'
import type { PersonRow, Rows, TaskRow } from '@/service/types'
import { ago, moment } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<TaskRow>('tasks', 'state eq "open"')
const people = useQuery({ key: ['people', 'who do tasks'], query: () => get<Rows<PersonRow>>('/people', { filter: 'standing ne "left" and address pr', limit: 500 }) })
const saying = ref<TaskRow | null>(null)
const words = ref('')
const failed = ref<unknown>(null)
const CHOICES = [
  { label: 'To do', filter: 'state eq "open"' },
  { label: 'Done', filter: 'state eq "done"' },
  { label: 'All', filter: '' },
]
const COLUMNS = [
  { name: 'what', label: 'What to do' },
  { name: 'who', label: 'Who does it' },
  { name: 'asked', label: 'Asked', sort: 'asked_at' },
  { name: 'do', label: '' },
]

async function act(call: () => Promise<unknown>): Promise<void> {
  failed.value = null
  try {
    await call()
    saying.value = null
  } catch (problem) {
    failed.value = problem
  }
  refetch()
}
const done = () => act(() => send('POST', `/tasks/${saying.value?.id}/done`, { words: words.value }, { 'If-Match': `"${saying.value?.version}"` }))
const assign = (row: TaskRow, person: string) => act(() => send('POST', `/tasks/${row.id}/assign`, { person: person || null }, { 'If-Match': `"${row.version}"` }))
</script>

<template>
  <PageHead title="By hand" about="What a person has to do in systems that Open Latch can’t change itself. Until somebody says that it is done, nothing counts as given." />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="tasks" :choices="CHOICES" />
  <ProblemNote :error="saying ? null : failed" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="There is nothing to be done by hand." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="What is to be done by hand" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #what="{ row }">{{ row.sentence }}<span class="block text-sm font-normal"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></span></template>
    <template #who="{ row }">
      <select v-if="row.state === 'open'" :aria-label="`Who does it: ${row.sentence}`" class="field" :value="row.assigned_to?.id ?? ''" @change="assign(row, ($event.target as HTMLSelectElement).value)">
        <option value="">whoever answers for it</option>
        <option v-for="person in people.data.value?.rows ?? []" :key="person.id" :value="person.id">{{ person.name }}</option>
      </select>
      <span v-else-if="row.done_by">{{ row.done_by }} says: {{ row.words }}</span>
      <span v-else class="text-soft">not needed any more</span>
    </template>
    <template #asked="{ row }"><span :title="moment(row.asked_at)">{{ ago(row.asked_at) }}</span></template>
    <template #do="{ row }"><button v-if="row.state === 'open'" class="button-main whitespace-nowrap" @click="((saying = row), (words = ''), (failed = null))">It is done<span class="sr-only">: {{ row.sentence }}</span></button></template>
  </RecordTable>
  <ModalBox :open="saying !== null" title="It is done" @close="saying = null">
    <form v-if="saying" class="mt-3 space-y-4" @submit.prevent="done">
      <p>{{ saying.sentence }}</p>
      <label class="block font-semibold">What you did <input v-model="words" required minlength="3" class="field mt-1 font-normal" placeholder="Shared the sheet with them, as editor" /></label>
      <p class="text-soft">The register goes by your word, and says that it is yours.</p>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="saying = null">Not yet</button><button class="button-main">Say that it is done</button></div>
    </form>
  </ModalBox>
</template>
