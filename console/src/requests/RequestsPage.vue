<script setup lang="ts">
import { gettext } from '@/frame/language'
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
import DayField from '@/frame/DayField.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<RequestRow>('requests', '')
const CHOICES = [
  { label: gettext('All'), filter: '' },
  { label: gettext('Waiting'), filter: 'state eq "pending"' },
  { label: gettext('Emergencies'), filter: 'emergency eq true' },
]
const COLUMNS = [
  { name: 'who', label: gettext('Who'), sort: 'person.name' },
  { name: 'what', label: gettext('What') },
  { name: 'why', label: gettext('Why') },
  { name: 'asked', label: gettext('Asked'), sort: 'asked_at', quiet: true },
  { name: 'state', label: gettext('State') },
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
  <PageHead :title="gettext('Requests')" :about="gettext('Access that people have asked for, and the answers.')">
    <button class="button-main" @click="isAsking = true">{{ gettext('Ask for access') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="requests" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No requests match.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Requests')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #who="{ row }">{{ row.person.name }}<span class="block text-sm font-normal text-soft">{{ row.person.inside ? gettext('inside') : gettext('outside') }}</span></template>
    <template #what="{ row }">
      <RouterLink v-if="row.account" :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink><span v-else>{{ row.wanted || gettext('access') }} <span class="block text-sm text-soft">{{ gettext('put to %{owner_address}', { owner_address: row.owner_address }) }}</span></span>
      <span class="block text-sm text-soft">{{ row.extends ? gettext('more time') : (row.level?.name ?? gettext('level left open')) }}, {{ row.extends && !row.until ? gettext('until you say') : ends(row) }}</span>
    </template>
    <template #why="{ row }">{{ row.reason }}</template>
    <template #asked="{ row }">{{ moment(row.asked_at) }}<span v-if="row.times_asked > 1" class="block text-sm">{{ gettext('%{times_asked} times', { times_asked: row.times_asked }) }}</span></template>
    <template #state="{ row }"><span v-if="row.emergency" class="mr-1 rounded-sm bg-rust-wash px-1.5 py-px text-xs font-semibold text-rust">{{ gettext('emergency') }}</span>{{ plain(row.state) }}<span v-if="row.answer" class="block text-sm text-soft">{{ row.answered_by?.name }}: {{ row.answer }}</span></template>
    <template #do="{ row }">
      <template v-if="row.state === 'pending'">
        <button v-if="row.person.id === me?.person.id" class="button" @click="withdraw(row)">{{ gettext('Withdraw') }}</button>
        <button v-else class="button-main" @click="open(row)">{{ gettext('Answer') }}<span class="sr-only"> {{ row.person.name }}</span></button>
      </template>
    </template>
  </RecordTable>
  <ModalBox :open="answering !== null" :title="gettext('%{person} asks for access', { person: answering?.person.name })" @close="answering = null">
    <form v-if="answering" class="mt-3 space-y-4" @submit.prevent="answer('grant')">
      <p>“{{ answering.reason }}” <span class="text-soft">{{ answering.account?.name ?? answering.wanted }}, {{ answering.extends ? gettext('more time on what they have') : (answering.level?.name ?? gettext('level left open')) }}, {{ answering.extends && !answering.until ? gettext('until you say') : ends(answering) }}</span> <ReachMark v-if="answering.reach" :reach="answering.reach" class="ml-2" /></p>
      <label v-if="!answering.account" class="block font-semibold">{{ gettext('Which account') }} <RecordPicker of="accounts" :label="gettext('Which account')" class="mt-1" required :model-value="form.account || null" @update:model-value="form.account = $event ?? ''" /></label>
      <div class="grid gap-4 sm:grid-cols-2">
        <label v-if="!answering.extends" class="block font-semibold">{{ gettext('Level') }} <span class="font-normal text-soft">{{ gettext('(as asked, or less)') }}</span><select v-model="form.level" class="field mt-1 font-normal"><option value="" disabled>{{ gettext('Choose one') }}</option><option v-for="level in levels.data.value?.rows ?? []" :key="level.id" :value="level.id">{{ level.name }}</option></select></label>
        <DayField v-model="form.last_day" end :label="gettext('Last day')" note="as asked, or sooner" />
      </div>
      <label class="block font-semibold">{{ gettext('Message') }} <span class="font-normal text-soft">{{ gettext('(needed to decline; they will read it)') }}</span><input v-model="form.words" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="failed" />
      <div class="flex flex-wrap justify-end gap-2">
        <button type="button" class="button" @click="answer('decline')">{{ gettext('Decline') }}</button>
        <button class="button-main">{{ answering.extends ? gettext('Extend the access of %{person}', { person: answering.person.name }) : gettext('Give %{person} access', { person: answering.person.name }) }}</button>
      </div>
    </form>
  </ModalBox>
  <AskDialog :open="isAsking" @close="isAsking = false" />
</template>
