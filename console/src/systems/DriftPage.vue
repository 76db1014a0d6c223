<script setup lang="ts">
import { gettext, ngettext, pgettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { useList } from '@/lists/list'
import type { Doubt, GrantRow, SystemRow } from '@/service/types'
import { day } from '@/frame/words'
import BalanceBar from './BalanceBar.vue'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import HolderName from '@/people/HolderName.vue'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<GrantRow>('grants', 'drift pr')
const systems = useQuery({ key: ['systems', 'drift'], query: () => get('/systems', { filter: 'kind ne "by_hand"', limit: 100 }) })
const doubts = useQuery({ key: ['systems', 'doubts'], query: () => get('/doubts') })
const picked = ref<string[]>([])
const doing = ref('')
const isEnding = ref(false)
const failed = ref<unknown>(null)
const chosen = computed(() => rows.value.filter((row) => picked.value.includes(row.id)))
const CHOICES = [
  { label: gettext('All'), filter: 'drift pr' },
  { label: gettext('Unrecorded'), filter: 'drift eq "unrecorded"' },
  { label: gettext('Missing'), filter: 'drift eq "missing"' },
  { label: gettext('Different'), filter: 'drift eq "changed"' },
  { label: pgettext('flag', 'Accepted'), filter: 'drift pr and drift_accepted_until pr' },
]
const COLUMNS = [
  { name: 'holder', label: gettext('Holder'), sort: 'holder.name' },
  { name: 'account', label: gettext('Account'), sort: 'account.name' },
  { name: 'here', label: gettext('Recorded here') },
  { name: 'there', label: gettext('In the system') },
  { name: 'system', label: gettext('System'), sort: 'system.name', quiet: true },
]
const ACTS: [string, string][] = [['adopt', gettext('Record what is there')], ['restore', gettext('Restore it')], ['accept', gettext('Accept until…')]]

async function decide(doubt: Doubt, person: string | null): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/doubts/${doubt.id}/decide`, { person })
    await Promise.all([doubts.refetch(), systems.refetch()])
    refetch()
  } catch (problem) {
    failed.value = problem
  }
}

function only(system: SystemRow): void {
  filter.value = `drift pr and system.id eq "${system.id}"`
}
</script>

<template>
  <PageHead docs="how-to/mend-drift" :title="gettext('Drift')" :words="['drift','unrecorded','missing','different','not identified','login']" :about="gettext('Where systems differ from the register, as of their last read.')">
    <button v-for="[kind, words] in ACTS" :key="kind" class="button" :disabled="!picked.length" @click="doing = kind">{{ words }}</button>
    <button class="button-end" :disabled="!picked.length" @click="isEnding = true">{{ picked.length ? gettext('End %{count} there', { count: ngettext('%{n} grant', '%{n} grants', picked.length) }) : gettext('Pick some to mend') }}</button>
  </PageHead>
  <section v-if="systems.data.value" class="card mb-5 px-5 py-4" aria-labelledby="balance">
    <div class="flex flex-wrap items-baseline justify-between gap-x-6">
      <h2 id="balance" class="text-xl">{{ gettext('Differences by system') }}</h2>
      <p class="text-sm text-soft"><span class="font-semibold text-rust">{{ gettext('missing') }}</span>{{ gettext(', to the left;') }} <span class="font-semibold text-brass">{{ gettext('different') }}</span>{{ gettext(', in the middle;') }} <span class="font-semibold text-link">{{ gettext('unrecorded') }}</span>{{ gettext(', to the right') }}</p>
    </div>
    <BalanceBar :systems="systems.data.value.rows" class="mt-3" @pick="only" />
  </section>
  <section v-if="doubts.data.value?.doubts.length" class="card mb-5 px-5 py-4" aria-labelledby="doubts">
    <h2 id="doubts" class="text-xl">{{ gettext('Logins that are not identified') }}</h2>
    <p class="text-soft">{{ gettext('An attribute of each matches somebody here, but that alone is not certain.') }}</p>
    <ul class="mt-2 divide-y divide-line">
      <li v-for="doubt in doubts.data.value.doubts" :key="doubt.id" class="flex flex-wrap items-center gap-x-4 gap-y-2 py-3">
        <div class="min-w-60 flex-1">
          <p><span class="font-semibold">{{ doubt.login }}</span> {{ gettext('in %{system}, called “%{called}”', { system: doubt.system.name, called: doubt.called }) }}</p>
          <p class="text-sm text-soft">{{ ngettext('%{n} grant', '%{n} grants', doubt.grants) }}<template v-if="doubt.locked">{{ gettext(', locked') }}</template></p>
        </div>
        <button v-for="person in doubt.candidates" :key="person.id" class="button" @click="decide(doubt, person.id)">{{ gettext('It is %{person}', { person: person.name }) }} <span class="text-sm text-soft">{{ gettext('(by %{by})', { by: person.by }) }}</span></button>
        <button class="button" @click="decide(doubt, null)">{{ doubt.candidates.length > 1 ? gettext('None of them') : gettext('Somebody else') }}<span class="sr-only">: {{ doubt.login }}</span></button>
      </li>
    </ul>
    <ProblemNote :error="failed" />
  </section>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="differences" list="grants" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No system differs from the register.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :rows="rows" :columns="COLUMNS" :caption="gettext('Drift')" picks :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #holder="{ row }"><HolderName :holder="row.holder" /></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #here="{ row }">
      <span v-if="row.drift === 'unrecorded'" class="text-soft">{{ gettext('nothing') }}</span>
      <span v-else>{{ row.level }}</span>
    </template>
    <template #there="{ row }">
      <span v-if="row.drift === 'missing'" class="text-rust">{{ gettext('nothing, since %{missing_since}', { missing_since: day(row.missing_since) }) }}</span>
      <span v-else-if="row.drift === 'changed'" class="font-semibold text-brass">{{ row.shown_level }}</span>
      <span v-else class="text-link">{{ row.level }}</span>
      <span v-if="row.drift_accepted_until" class="block text-sm text-soft">{{ gettext('accepted until %{drift_accepted_until}', { drift_accepted_until: day(row.drift_accepted_until) }) }}</span>
      <span v-if="row.owed" class="block text-sm text-soft">{{ gettext('being restored') }}<template v-if="row.owed_answer">: {{ row.owed_answer }}</template></span>
    </template>
    <template #system="{ row }">{{ row.system.name }}</template>
  </RecordTable>
  <ChangeDialog :open="doing !== ''" :grants="chosen" :only="doing" :title="ACTS.find(([kind]) => kind === doing)?.[1] ?? ''" @close="doing = ''" @done="refetch()" />
  <RevokeDialog :open="isEnding" :grants="picked" @close="isEnding = false" @started="isEnding = false" />
</template>
