<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { useList } from '@/lists/list'
import type { TaskRow } from '@/service/types'
import { ago, moment } from '@/frame/words'
import RecordPicker from '@/records/RecordPicker.vue'
import ListTools from '@/lists/ListTools.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<TaskRow>('tasks', 'state eq "open"')
const saying = ref<TaskRow | null>(null)
const words = ref('')
const failed = ref<unknown>(null)
const CHOICES = [
  { label: gettext('To do'), filter: 'state eq "open"' },
  { label: gettext('Done'), filter: 'state eq "done"' },
  { label: gettext('All'), filter: '' },
]
const COLUMNS = [
  { name: 'what', label: gettext('What to do') },
  { name: 'who', label: gettext('Who does it') },
  { name: 'asked', label: gettext('Asked'), sort: 'asked_at' },
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
  <PageHead docs="explanation/how-access-ends" :title="gettext('To do by hand')" :about="gettext('Changes in systems that Open Latch can’t change itself. Access counts as given only once somebody marks it as done.')" />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="tasks" :choices="CHOICES" />
  <ProblemNote :error="saying ? null : failed" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('There is nothing to do by hand.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('What is to be done by hand')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #what="{ row }">{{ row.sentence }}<span class="block text-sm font-normal"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></span></template>
    <template #who="{ row }">
      <RecordPicker v-if="row.state === 'open'" of="people" :label="gettext('Who does it: %{sentence}', { sentence: row.sentence })" :placeholder="gettext('whoever answers for it')" filter="standing ne &quot;left&quot; and address pr" :named="row.assigned_to?.name" :model-value="row.assigned_to?.id ?? null" @update:model-value="assign(row, $event ?? '')" />
      <span v-else-if="row.done_by">{{ gettext('%{done_by} says: %{words}', { done_by: row.done_by, words: row.words }) }}</span>
      <span v-else class="text-soft">{{ gettext('not needed any more') }}</span>
    </template>
    <template #asked="{ row }"><span :title="moment(row.asked_at)">{{ ago(row.asked_at) }}</span></template>
    <template #do="{ row }"><button v-if="row.state === 'open'" class="button-main whitespace-nowrap" @click="((saying = row), (words = ''), (failed = null))">{{ gettext('Mark as done') }}<span class="sr-only">: {{ row.sentence }}</span></button></template>
  </RecordTable>
  <ModalBox :open="saying !== null" :title="gettext('It is done')" @close="saying = null">
    <form v-if="saying" class="mt-3 space-y-4" @submit.prevent="done">
      <p>{{ saying.sentence }}</p>
      <label class="block font-semibold">{{ gettext('What you did') }} <input v-model="words" required minlength="3" class="field mt-1 font-normal" :placeholder="gettext('Shared the sheet with them, as editor')" /></label>
      <p class="text-soft">{{ gettext('The register records this as your statement.') }}</p>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="saying = null">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Mark as done') }}</button></div>
    </form>
  </ModalBox>
</template>
