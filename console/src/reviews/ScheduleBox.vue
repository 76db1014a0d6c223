<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref, watch } from 'vue'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import type { SchedulePage, ScheduleRow } from '@/service/types'
import { freshReview } from '@/exposure/drafts'
import { EVENTS } from './reviews'
import { momentIn, plain } from '@/frame/words'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReviewForm from './ReviewForm.vue'
import StateNote from '@/frame/StateNote.vue'

const CHOICES: [string, string][] = [['month', gettext('every month')], ['quarter', gettext('every quarter')], ['half-year', gettext('every half-year')], ['year', gettext('every year')], ['sensitivity', gettext('by sensitivity')], ['', gettext('by a rule of my own')], ['never', gettext('not by the calendar')]]
const { data, status, error, refetch } = useQuery({
  key: ['rounds', 'schedules'],
  query: async () => {
    const rows = (await get('/schedules', { limit: 100 })).rows
    return Promise.all(rows.map((row) => get(`/schedules/${row.id}`)))
  },
})
const isOpen = ref(false)
const draft = ref(freshReview())
const times = reactive({ plain: 'quarter', rule: 'FREQ=MONTHLY;BYDAY=1MO', starts: '', events: [] as string[] })
const next = ref<string[]>([])
const failed = ref<unknown>(null)
const recurs = () => times.plain !== 'never'
const plan = () => ({
  ...draft.value,
  recurrence: recurs() ? times.plain || times.rule : '',
  starts: recurs() ? times.starts || null : null,
  events: times.events,
})

function when(at: string, zone: string): string {
  return momentIn(at, zone)
}

function opens(row: ScheduleRow): string {
  const events = EVENTS.filter(([key]) => row.events.includes(key)).map(([, words]) => gettext('when %{words}', { words }))
  return [...(row.recurs ? [row.recurs] : []), ...events].join('; ')
}

let asked = 0
watch([draft, times], async () => {
  const mine = ++asked
  if (!times.starts || !recurs()) {
    next.value = []
    return
  }
  try {
    const found = await send('POST', '/schedules/preview', { ...plan(), name: draft.value.name || 'x' })
    if (mine === asked) {
      next.value = found.next
      failed.value = null
    }
  } catch (problem) {
    if (mine === asked) {
      next.value = []
      failed.value = problem
    }
  }
}, { deep: true })

async function attempt(call: () => Promise<unknown>): Promise<void> {
  failed.value = null
  try {
    await call()
    isOpen.value = false
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
const make = () => attempt(() => send('POST', times.plain === 'sensitivity' ? '/schedules/by-sensitivity' : '/schedules', plan()))
function turn(row: SchedulePage): Promise<void> {
  const { name, scope, covers, reviewers, recurrence, starts, time_zone, events, days_to_decide, acts, undecided, second_from, reminders, closes_after } = row
  const body = { name, scope, covers, reviewers, recurrence, starts: starts || null, time_zone, events, days_to_decide, acts, undecided, second_from, reminders, closes_after, paused: !row.paused }
  return attempt(() => send('PUT', `/schedules/${row.id}`, body, { 'If-Match': `"${row.version}"` }))
}
</script>

<template>
  <section class="card mt-6 p-5" aria-labelledby="schedules">
    <div class="flex flex-wrap items-baseline gap-3">
      <h2 id="schedules" class="flex-1 text-xl">{{ gettext('Reviews that open by themselves') }}</h2>
      <button class="button" @click="isOpen = true">{{ gettext('Schedule a review') }}</button>
    </div>
    <StateNote :status="status" :error="error" :empty="data?.length === 0" :empty-text="gettext('None yet.')" @retry="refetch" />
    <ProblemNote v-if="!isOpen" :error="failed" />
    <ul class="divide-y divide-line">
      <li v-for="row in data ?? []" :key="row.id" class="flex flex-wrap items-start gap-x-4 gap-y-1 py-3">
        <div class="min-w-0 flex-1 basis-64">
          <p class="font-medium">{{ row.name }} <span v-if="row.paused" class="rounded-sm bg-brass-wash px-1.5 py-px text-xs font-semibold text-brass">{{ gettext('paused') }}</span></p>
          <p class="text-sm wrap-anywhere text-soft">{{ row.covers.map(plain).join(', ') }}<template v-if="row.scope">: {{ row.scope }}</template>{{ gettext('; %{row}; %{days_to_decide} days to decide', { row: opens(row), days_to_decide: row.days_to_decide }) }}</p>
          <p v-if="row.answer" class="text-sm text-soft">{{ gettext('Last time: %{answer}', { answer: row.answer }) }}</p>
        </div>
        <p v-if="row.next[0]">{{ gettext('Next: %{next}', { next: when(row.next[0], row.time_zone) }) }}</p>
        <button class="button" @click="turn(row)">{{ row.paused ? gettext('Go on') : gettext('Pause') }}<span class="sr-only"> {{ row.name }}</span></button>
      </li>
    </ul>
    <ModalBox :open="isOpen" :title="gettext('Schedule a review')" @close="isOpen = false">
      <form class="mt-3 space-y-4" @submit.prevent="make">
        <ReviewForm v-model="draft">
          <div class="grid gap-4 sm:grid-cols-2">
            <label class="block font-semibold">{{ gettext('How often') }} <select v-model="times.plain" class="field mt-1 font-normal"><option v-for="[value, words] in CHOICES" :key="value" :value="value">{{ words }}</option></select></label>
            <p v-if="times.plain === 'sensitivity'" class="self-end text-soft">{{ gettext('Four schedules: critical accounts every month, high every quarter, medium every half-year, low every year.') }}</p>
            <label v-if="times.plain !== 'never'" class="block font-semibold">{{ gettext('For the first time') }} <input v-model="times.starts" type="datetime-local" required class="field mt-1 font-normal" /></label>
            <label v-if="!times.plain" class="block font-semibold">{{ gettext('Rule by RFC 5545') }} <input v-model="times.rule" class="field mt-1 font-mono text-sm font-normal" /></label>
          </div>
          <div v-if="next.length" role="status">
            <p class="font-semibold">{{ gettext('Opens') }}</p>
            <ol class="grid gap-x-4 sm:grid-cols-2"><li v-for="at in next" :key="at">{{ when(at, me?.organisation.time_zone ?? 'UTC') }}</li></ol>
          </div>
          <fieldset>
            <legend class="font-semibold">{{ gettext('Also a small round of its own when') }}</legend>
            <div class="mt-1 grid gap-x-4 sm:grid-cols-2"><label v-for="[value, words] in EVENTS" :key="value"><input v-model="times.events" type="checkbox" :value="value" class="accent-moss" /> {{ words }}</label></div>
          </fieldset>
        </ReviewForm>
        <ProblemNote :error="failed" />
        <div class="flex justify-end gap-2"><button type="button" class="button" @click="isOpen = false">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Schedule it') }}</button></div>
      </form>
    </ModalBox>
  </section>
</template>
