<script setup lang="ts">
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { send } from '@/service/api'
import { useList } from '@/lists/list'
import type { ExposureRow } from '@/service/types'
import { ANYONE_CHANGES, UNJUDGED, AUDIENCES, judgedWords } from './exposure'
import { day, SENSITIVITY_WORDS } from '@/frame/words'
import CloseExposuresDialog from './CloseExposuresDialog.vue'
import GuardBox from './GuardBox.vue'
import JudgeDialog from './JudgeDialog.vue'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<ExposureRow>('exposures')
const CHOICES = [
  { label: gettext('All'), filter: '' },
  { label: gettext('Not judged'), filter: UNJUDGED },
  { label: gettext('Anyone can change'), filter: ANYONE_CHANGES },
  { label: gettext('Sensitive'), filter: 'account.sensitivity ge 3' },
  { label: gettext('Not understood'), filter: 'understood eq false' },
  { label: gettext('To close'), filter: 'judgement eq "to_close"' },
  { label: gettext('Breaks a guard'), filter: 'forbidden eq true' },
  { label: gettext('Shut by the system’s guard'), filter: 'blocked eq true' },
  { label: gettext('Gone'), filter: 'gone eq true' },
]
const COLUMNS = [
  { name: 'resource', label: gettext('What is open'), sort: 'resource.name' },
  { name: 'account', label: gettext('In'), sort: 'account.name' },
  { name: 'see', label: gettext('See') },
  { name: 'change', label: gettext('Change') },
  { name: 'since', label: gettext('Since'), sort: 'since' },
  { name: 'used', label: gettext('Used by outsiders') },
  { name: 'judged', label: gettext('Judged') },
]
const picked = ref<string[]>([])
const chosen = computed(() => rows.value.filter((row) => picked.value.includes(row.id)))
const judging = ref<ExposureRow[]>([])
const closing = ref<ExposureRow[]>([])

function over(): void {
  judging.value = closing.value = []
  picked.value = []
  refetch()
}
const router = useRouter()
const failed = ref<unknown>(null)
/** A draft by which nobody outside gets in but those who did; it is looked at, and set, beside the rules. */
async function narrow(row: ExposureRow): Promise<void> {
  failed.value = null
  try {
    const made = await send('POST', `/exposures/${row.id}/narrow`)
    await router.push({ path: `/accounts/${row.account.id}/rules`, query: { draft: made.id } })
  } catch (problem) {
    failed.value = problem
  }
}
</script>

<template>
  <PageHead docs="explanation/exposure" :title="gettext('Exposures')" :words="['exposure','access rule','guard','inside']" :about="gettext('What outsiders, or anyone at all, can see or change by access rules.')" />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="exposures" :choices="CHOICES" />
  <ProblemNote :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No exposures match.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :rows="rows" :columns="COLUMNS" :caption="gettext('Exposures')" picks :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #resource="{ row }">
      <span class="block font-medium">{{ row.resource?.name ?? gettext('the whole account') }}</span>
      <span class="block text-sm text-soft">{{ gettext('%{sentence} By %{admitted_by}.', { sentence: row.sentence, admitted_by: row.admitted_by.join(', ') }) }}</span>
      <span v-if="row.forbidden" class="block text-sm text-rust">{{ gettext('Breaks a guard.') }}</span>
    </template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink><span class="block text-sm text-soft">{{ gettext('%{sensitivity} sensitivity', { sensitivity: SENSITIVITY_WORDS[row.account.sensitivity ?? 2] }) }}</span></template>
    <template #see="{ row }"><span v-if="row.right === 'see'">{{ AUDIENCES[row.audience] }}</span><span v-else class="text-soft">–</span></template>
    <template #change="{ row }"><strong v-if="row.right !== 'see'" :class="row.audience === 'named' ? '' : 'text-rust'">{{ AUDIENCES[row.audience] }}{{ row.right === 'administer' ? gettext(', and decide who else') : '' }}</strong><span v-else class="text-soft">–</span></template>
    <template #since="{ row }">{{ day(row.since) }}<span v-if="!row.open && !row.gone" class="block text-sm text-soft">{{ gettext('opens later') }}</span><span v-if="row.grew_at" class="block text-sm text-brass">{{ gettext('grew %{grew_at}', { grew_at: day(row.grew_at) }) }}</span></template>
    <template #used="{ row }">{{ row.last_used_on ? day(row.last_used_on) : gettext('not known') }}<button v-if="row.last_used_on && !row.gone && !row.blocked" class="link block text-left text-sm" @click="narrow(row)">{{ gettext('Leave only this use') }}<span class="sr-only">{{ ` ${gettext('of %{sentence}', { sentence: row.sentence })}` }}</span></button></template>
    <template #judged="{ row }">{{ judgedWords(row) }}<span v-if="row.judged_reason" class="block text-sm text-soft">“{{ row.judged_reason }}” {{ row.judged_by?.name }}</span></template>
  </RecordTable>
  <section v-if="chosen.length" class="card sticky bottom-3 z-20 mt-3 flex flex-wrap items-center gap-3 border-moss p-4 shadow-lg" :aria-label="gettext('Many at once')">
    <strong>{{ gettext('%{count} selected', { count: ngettext('%{n} exposure', '%{n} exposures', chosen.length) }) }}</strong>
    <button class="button" @click="judging = chosen">{{ gettext('Judge %{count}', { count: ngettext('%{n} exposure', '%{n} exposures', chosen.length) }) }}</button>
    <button class="button-end" @click="closing = chosen">{{ gettext('Close %{count}', { count: ngettext('%{n} exposure', '%{n} exposures', chosen.length) }) }}</button>
    <button class="link" @click="picked = []">{{ gettext('Clear selection') }}</button>
  </section>
  <GuardBox class="mt-6" @changed="refetch" />
  <JudgeDialog :exposures="judging" @close="judging = []" @done="over" />
  <CloseExposuresDialog :exposures="closing" @close="closing = []" />
</template>
