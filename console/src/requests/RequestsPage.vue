<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { send } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { RequestRow } from '@/service/types'
import { ends, moment, plain } from '@/frame/words'
import AskDialog from './AskDialog.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import ListTools from '@/lists/ListTools.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import { levelsOf } from '@/grants/queries'
import { accountPage } from '@/accounts/queries'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<RequestRow>('requests', '')
const CHOICES = [
  { label: 'All', filter: '' },
  { label: 'Waiting', filter: 'state eq "pending"' },
  { label: 'Emergencies', filter: 'emergency eq true' },
]
const COLUMNS = [
  { name: 'who', label: 'Who', sort: 'person.name' },
  { name: 'what', label: 'What' },
  { name: 'why', label: 'Why' },
  { name: 'asked', label: 'Asked', sort: 'asked_at', quiet: true },
  { name: 'state', label: 'State' },
  { name: 'do', label: '' },
]
const isAsking = ref(false)
const answering = ref<RequestRow | null>(null)
const form = reactive({ account: '', level: '', last_day: '', words: '' })
const failed = ref<unknown>(null)
const account = () => answering.value?.account?.id ?? form.account
const page = useQuery(accountPage(account))
const levels = useQuery(levelsOf(() => page.data.value?.system.id))

function open(row: RequestRow): void {
  answering.value = row
  failed.value = null
  Object.assign(form, { account: '', level: row.level?.id ?? '', last_day: '', words: '' })
}

async function answer(how: 'grant' | 'decline'): Promise<void> {
  const row = answering.value
  if (!row) return
  failed.value = null
  const headers = { 'If-Match': `"${row.version}"` }
  try {
    if (how === 'grant') {
      const body = { account: form.account || null, levels: form.level ? [form.level] : [], last_day: form.last_day || null, words: form.words }
      await proving(() => send('POST', `/requests/${row.id}/grant`, body, headers))
    } else {
      await send('POST', `/requests/${row.id}/decline`, { words: form.words }, headers)
    }
    answering.value = null
  } catch (problem) {
    failed.value = problem
  }
  refetch()
}

async function withdraw(row: RequestRow): Promise<void> {
  await send('POST', `/requests/${row.id}/withdraw`, undefined, { 'If-Match': `"${row.version}"` })
  refetch()
}
</script>

<template>
  <PageHead title="Requests" about="Access that people have asked for, and the answers.">
    <button class="button-main" @click="isAsking = true">Ask for access</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="requests" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No requests match." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="Requests" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #who="{ row }">{{ row.person.name }}<span class="block text-sm font-normal text-soft">{{ row.person.inside ? 'inside' : 'outside' }}</span></template>
    <template #what="{ row }">
      <RouterLink v-if="row.account" :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink><span v-else>{{ row.wanted || 'access' }} <span class="block text-sm text-soft">put to {{ row.owner_address }}</span></span>
      <span class="block text-sm text-soft">{{ row.extends ? 'more time' : (row.level?.name ?? 'level left open') }}, {{ row.extends && !row.until ? 'until you say' : ends(row) }}</span>
    </template>
    <template #why="{ row }">{{ row.reason }}</template>
    <template #asked="{ row }">{{ moment(row.asked_at) }}<span v-if="row.times_asked > 1" class="block text-sm">{{ row.times_asked }} times</span></template>
    <template #state="{ row }"><span v-if="row.emergency" class="mr-1 rounded-sm bg-rust-wash px-1.5 py-px text-xs font-semibold text-rust">emergency</span>{{ plain(row.state) }}<span v-if="row.answer" class="block text-sm text-soft">{{ row.answered_by?.name }}: {{ row.answer }}</span></template>
    <template #do="{ row }">
      <template v-if="row.state === 'pending'">
        <button v-if="row.person.id === me?.person.id" class="button" @click="withdraw(row)">Withdraw</button>
        <button v-else class="button-main" @click="open(row)">Answer<span class="sr-only"> {{ row.person.name }}</span></button>
      </template>
    </template>
  </RecordTable>
  <ModalBox :open="answering !== null" :title="`${answering?.person.name} asks for access`" @close="answering = null">
    <form v-if="answering" class="mt-3 space-y-4" @submit.prevent="answer('grant')">
      <p>“{{ answering.reason }}” <span class="text-soft">{{ answering.account?.name ?? answering.wanted }}, {{ answering.extends ? 'more time on what they have' : (answering.level?.name ?? 'level left open') }}, {{ answering.extends && !answering.until ? 'until you say' : ends(answering) }}</span> <ReachMark v-if="answering.reach" :reach="answering.reach" class="ml-2" /></p>
      <label v-if="!answering.account" class="block font-semibold">Which account <RecordPicker of="accounts" label="Which account" class="mt-1" required :model-value="form.account || null" @update:model-value="form.account = $event ?? ''" /></label>
      <div class="grid gap-4 sm:grid-cols-2">
        <label v-if="!answering.extends" class="block font-semibold">Level <span class="font-normal text-soft">(as asked, or less)</span><select v-model="form.level" class="field mt-1 font-normal"><option value="" disabled>Choose one</option><option v-for="level in levels.data.value?.rows ?? []" :key="level.id" :value="level.id">{{ level.name }}</option></select></label>
        <label class="block font-semibold">Last day <span class="font-normal text-soft">(as asked, or sooner)</span><input v-model="form.last_day" type="date" class="field mt-1 font-normal" /></label>
      </div>
      <label class="block font-semibold">Message <span class="font-normal text-soft">(needed to decline; they will read it)</span><input v-model="form.words" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="failed" />
      <div class="flex flex-wrap justify-end gap-2">
        <button type="button" class="button" @click="answer('decline')">Decline</button>
        <button class="button-main">{{ answering.extends ? `Extend the access of ${answering.person.name}` : `Give ${answering.person.name} access` }}</button>
      </div>
    </form>
  </ModalBox>
  <AskDialog :open="isAsking" @close="isAsking = false" />
</template>
