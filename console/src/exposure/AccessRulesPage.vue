<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, nextTick, ref, watch } from 'vue'
import { RouterLink, useRoute } from 'vue-router'

import { get, getAs, send, sendAs } from '@/service/api'
import { proving } from '@/identity/proof'
import type { RuleDraft, RuleProblem } from '@/service/types'
import { written } from './exposure'
import { saveText } from '@/records/files'
import ExposureChangeList from './ExposureChangeList.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({ key: () => ['access_rules', props.id], query: () => get(`/accounts/${props.id}/rules`) })

const COMBINING: Record<string, string> = {
  refuse_wins: gettext('A refusal wins over every rule that admits.'),
  first_match: gettext('The first rule that fits decides.'),
  most_specific: gettext('The rule nearest to the resource decides; among equals a refusal wins.'),
}
const WAIT = 500
const text = ref('')
const problems = ref<RuleProblem[]>([])
const draft = ref<RuleDraft | null>(null)
const failed = ref<unknown>(null)
const isBusy = ref(false)
const isAsking = ref(false)
const reason = ref('')
const lines = computed(() => text.value.split('\n').length)
const faulty = computed(() => new Set(problems.value.map((problem) => problem.line)))
let waiting: ReturnType<typeof setTimeout> | undefined

const OUTCOMES: Partial<Record<RuleDraft['state'], string>> = {
  applying: gettext('The rules are being set. It counts as done once the system shows them.'),
  applied: gettext('Set: the system shows these rules.'),
}

/** A draft that somebody was led here with. */
const asked = String(useRoute().query.draft ?? '')
watch(data, async (told) => {
  if (!told || text.value) return
  const found = asked ? await get(`/rule-drafts/${asked}`) : null
  text.value = found ? written(JSON.parse(found.document)) : written(told.document)
  await nextTick()
  draft.value = found
}, { immediate: true })
watch(text, () => {
  draft.value = null
  clearTimeout(waiting)
  waiting = setTimeout(check, WAIT)
})

async function run(call: () => Promise<unknown>): Promise<void> {
  failed.value = null
  isBusy.value = true
  try {
    await call()
  } catch (problem) {
    failed.value = problem
  }
  isBusy.value = false
}
const check = () => run(async () => (problems.value = (await send('POST', `/accounts/${props.id}/rules/check`, { document: text.value })).problems))
const tryIt = () =>
  run(async () => {
    let found = await send('POST', `/accounts/${props.id}/drafts`, { document: text.value })
    while (found.state === 'waiting') {
      await new Promise((resolve) => setTimeout(resolve, WAIT))
      found = await get(`/rule-drafts/${found.id}`)
    }
    problems.value = found.problems
    draft.value = found
  })
const apply = () =>
  run(async () => {
    const at = `/rule-drafts/${draft.value!.id}`
    draft.value = await proving(() => sendAs<RuleDraft>('POST', `${at}/apply`, { reason: reason.value }))
    isAsking.value = false
    while (draft.value.state === 'applying') {
      await new Promise((resolve) => setTimeout(resolve, WAIT))
      draft.value = await getAs<RuleDraft>(at)
    }
    void refetch()
  })
</script>

<template>
  <PageHead docs="how-to/check-rules" :title="data ? gettext('Access rules of %{account}', { account: data.account.name }) : gettext('Access rules')" :about="gettext('Change the rules here, see what they would open and close, then set them in the system or download the document. Nothing is written until you confirm.')" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="grid items-start gap-5 lg:grid-cols-2">
    <section class="card p-5" aria-labelledby="document">
      <h2 id="document" class="text-xl">{{ gettext('The rules') }}</h2>
      <p class="text-soft">{{ gettext('%{combining} What the system lets people do: %{object}.', { combining: COMBINING[data.combining], object: Object.keys(data.permissions).join(', ') }) }} <a href="/api/v1/rule-document/schema" class="link" download="rule-document.schema.json">{{ gettext('The form of the document') }}</a></p>
      <div class="mt-3 flex max-h-[32rem] items-start overflow-auto rounded-md border border-line bg-sunk font-mono text-sm leading-6">
        <ol aria-hidden="true" class="sticky left-0 bg-sunk px-2 text-right text-soft select-none">
          <li v-for="line in lines" :key="line" :class="{ 'bg-rust-wash font-bold text-rust': faulty.has(line) }">{{ line }}</li>
        </ol>
        <textarea v-model="text" :rows="lines" wrap="off" spellcheck="false" :aria-label="gettext('Rule document')" aria-describedby="problems" class="min-w-0 flex-1 resize-none bg-transparent px-2 leading-6 whitespace-pre outline-offset-[-2px]" data-test="rules" />
      </div>
      <div class="mt-3 flex flex-wrap gap-2">
        <button class="button-main" :disabled="isBusy || problems.length > 0" @click="tryIt">{{ gettext('Preview') }}</button>
        <button class="button" :disabled="isBusy || draft?.state !== 'ready'" data-test="set-rules" @click="isAsking = true">{{ gettext('Set them in the system') }}</button>
        <button class="button" @click="saveText('access-rules.json', text, 'application/json')">{{ gettext('Download') }}</button>
        <RouterLink :to="`/accounts/${id}`" class="button">{{ gettext('Back to the account') }}</RouterLink>
      </div>
    </section>
    <section class="card p-5" aria-labelledby="outcome">
      <h2 id="outcome" class="text-xl">{{ gettext('What it would open and close') }}</h2>
      <div id="problems" role="status">
        <p v-if="problems.length" class="mt-2 font-semibold text-rust">{{ gettext('%{count} in the document', { count: ngettext('%{n} problem', '%{n} problems', problems.length) }) }}</p>
        <ul v-if="problems.length" class="mt-1 space-y-1"><li v-for="problem in problems" :key="problem.pointer + problem.message">{{ gettext('Line %{line}: %{message}', { line: problem.line, message: problem.message }) }}</li></ul>
        <p v-else-if="!draft" class="mt-2 text-soft">{{ gettext('The document can be read.') }}</p>
      </div>
      <ProblemNote :error="failed" />
      <p v-if="draft && OUTCOMES[draft.state]" role="status" class="mt-2 font-semibold">{{ OUTCOMES[draft.state] }}</p>
      <p v-if="draft?.failure" role="alert" class="mt-2 font-semibold text-rust">{{ gettext('Not set: %{failure}', { failure: draft.failure }) }}</p>
      <ExposureChangeList v-if="draft?.counts" :changes="{ counts: draft.counts, lines: draft.lines, more: draft.more }" class="mt-2" />
    </section>
    <ModalBox :open="isAsking" :title="gettext('Set these rules in %{account}', { account: data.account.name })" @close="isAsking = false">
      <form class="mt-3 space-y-4" @submit.prevent="apply">
        <p v-if="draft?.counts">{{ gettext('%{count} would be new, %{changed} changed, %{gone} gone. Rules that were changed in the system meanwhile are not written over.', { count: ngettext('%{n} exposure', '%{n} exposures', draft.counts.new ?? 0), changed: draft.counts.changed ?? 0, gone: draft.counts.gone ?? 0 }) }}</p>
        <label class="block font-semibold">{{ gettext('Why') }} <input v-model="reason" required class="field mt-1 font-normal" /></label>
        <ProblemNote :error="failed" />
        <div class="flex justify-end gap-2">
          <button type="button" class="button" @click="isAsking = false">{{ gettext('Cancel') }}</button>
          <button class="button-main" :disabled="isBusy">{{ gettext('Set the rules') }}</button>
        </div>
      </form>
    </ModalBox>
  </div>
</template>
