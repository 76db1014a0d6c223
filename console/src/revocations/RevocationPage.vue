<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import type { StepRow } from '@/service/types'
import { endsWords, moment } from '@/frame/words'
import PageHead from '@/frame/PageHead.vue'
import PreviewBox from './PreviewBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ProofMark from './ProofMark.vue'
import RevocationState from './RevocationState.vue'
import StateNote from '@/frame/StateNote.vue'
import UndoDialog from './UndoDialog.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({
  key: () => ['revocation', props.id],
  query: () => get(`/revocations/${props.id}`),
})
const proofs = ref<Record<string, string>>({})
const failed = ref<unknown>(null)
const reasons = ref<Record<string, string>>({})
const skipping = ref('')
const isUndoing = ref(false)
const MARKS: Record<string, string> = { open: gettext('next'), waiting: gettext('waits'), by_hand: gettext('by hand'), done: gettext('done'), skipped: gettext('skipped') }

async function carry(path: string, body?: unknown): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/revocations/${props.id}/${path}`, body)
    await refetch()
  } catch (problem) {
    failed.value = problem
  }
}

function isDone(step: StepRow): boolean {
  return step.state === 'done'
}
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <PageHead docs="how-to/end-access" :title="data.title" :about="gettext('%{reason} Asked by %{asked_by}, %{created_at}.', { reason: data.reason, asked_by: data.asked_by?.name ?? gettext('Open Latch'), created_at: moment(data.created_at) })">
      <RevocationState :state="data.state" />
      <RouterLink v-if="data.leaver" :to="`/people/${data.leaver.id}/leaving`" class="button">{{ gettext('Progress of %{leaver} leaving', { leaver: data.leaver.name }) }}</RouterLink>
      <button v-if="!data.undone_at && data.cause !== 'expired' && data.cause !== 'replaced'" class="button" @click="isUndoing = true">{{ gettext('Undo…') }}</button>
    </PageHead>
    <p v-if="data.state === 'waiting'" class="mb-4 rounded-md border border-rust bg-rust-wash p-3">
      {{ gettext('A step has failed. It is retried automatically, less often the longer it takes.') }}
      <button class="button ml-2" @click="carry('retry')">{{ gettext('Try now') }}</button>
    </p>
    <div class="grid items-start gap-6 lg:grid-cols-[3fr_2fr]">
      <section aria-labelledby="steps">
        <h2 id="steps" class="mb-2 text-xl">{{ gettext('Steps') }}</h2>
        <ol class="card divide-y divide-line">
          <li v-for="step in data.step_list" :key="step.id" class="grid grid-cols-[5rem_1fr] gap-x-3 px-5 py-3">
            <span class="font-semibold" :class="{ 'text-link': isDone(step), 'text-rust': step.state === 'waiting', 'text-brass': step.state === 'by_hand' }">{{ MARKS[step.state] }}</span>
            <div>
              <p class="font-medium">{{ step.sentence }}</p>
              <p v-if="step.answer" class="text-sm text-soft">{{ step.answer }}</p>
              <p v-if="isDone(step) || step.state === 'skipped'" class="text-sm text-soft"><ProofMark v-if="step.proof" :proof="step.proof" :by="step.done_by" class="mr-2" />{{ moment(step.done_at) }}</p>
              <p v-else-if="step.state === 'waiting'" class="text-sm text-soft">{{ gettext('Tried %{count}; again %{next_try_at}', { count: ngettext('%{n} time', '%{n} times', step.tries), next_try_at: moment(step.next_try_at) }) }}</p>
              <form v-if="step.state === 'by_hand'" class="mt-2 flex flex-wrap gap-2" @submit.prevent="carry(`steps/${step.id}/done`, { proof: proofs[step.id] ?? '' })">
                <input v-model="proofs[step.id]" required minlength="3" class="field max-w-md flex-1" :aria-label="gettext('What was done: %{sentence}', { sentence: step.sentence })" :placeholder="gettext('What you did, and what you saw')" />
                <button class="button-main">{{ gettext('Mark as done') }}</button>
              </form>
              <template v-if="['waiting', 'by_hand'].includes(step.state) && step.kind !== 'read_again'">
                <button v-if="skipping !== step.id" class="mt-1 min-h-6 text-sm text-soft underline" @click="skipping = step.id">{{ gettext('Skip…') }}<span class="sr-only"> {{ step.sentence }}</span></button>
                <form v-else class="mt-2 flex flex-wrap gap-2" @submit.prevent="carry(`steps/${step.id}/skip`, { reason: reasons[step.id] ?? '' })">
                  <input v-model="reasons[step.id]" required minlength="3" class="field max-w-md flex-1" :aria-label="gettext('Why it will not be done: %{sentence}', { sentence: step.sentence })" :placeholder="gettext('Why; that it is gone is then not proved')" />
                  <button class="button-end">{{ gettext('Skip this step') }}</button>
                </form>
              </template>
            </div>
          </li>
          <li v-if="!data.step_list.length" class="px-5 py-3 text-soft">{{ gettext('No system had to be changed.') }}</li>
        </ol>
        <ProblemNote :error="failed" />
        <p v-if="data.undone_at" class="mt-3 font-semibold text-brass">{{ gettext('Undone %{undone_at}.', { undone_at: moment(data.undone_at) }) }}</p>
        <p v-else-if="data.settled_at" class="mt-3 font-semibold" data-test="ended">{{ gettext('Ended %{settled_at}: %{data}. How each is known is in the journal.', { settled_at: moment(data.settled_at), data: endsWords(data) }) }}</p>
        <ul v-if="data.settled_at && data.ends.length" class="card mt-3 divide-y divide-line" :aria-label="gettext('How each end is known')">
          <li v-for="(end, index) in data.ends" :key="index" class="px-5 py-2.5">
            <p class="flex flex-wrap items-baseline gap-2"><ProofMark v-if="end.proof" :proof="end.proof" :by="end.proved_by" /><span v-else class="text-soft">{{ gettext('done by the register') }}</span>{{ end.what }}</p>
            <p v-if="end.words" class="text-sm text-soft">{{ moment(end.proved_at) }}: {{ end.words }}</p>
          </li>
        </ul>
      </section>
      <section class="card p-5" aria-labelledby="shown">
        <h2 id="shown" class="text-xl">{{ gettext('What was shown before') }}</h2>
        <PreviewBox :preview="data.preview" />
      </section>
    </div>
    <UndoDialog :id="id" :open="isUndoing" @close="isUndoing = false" @done="refetch()" />
  </template>
</template>
