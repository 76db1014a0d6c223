<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get } from '@/service/api'
import { me } from '@/identity/me'
import { endsOption } from '@/access/charts'
import { ANYONE_CHANGES, UNJUDGED } from '@/exposure/exposure'
import { isDark } from '@/frame/theme'
import { counted, day, moment, plain } from '@/frame/words'
import ChartBox from '@/frame/ChartBox.vue'
import ActionList from '@/next/ActionList.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['today'], query: () => get('/today') })

const withPostponed = ref(false)
const next = useQuery({ key: () => ['next', withPostponed.value], query: () => get('/next', { postponed: withPostponed.value }) })
const answers = computed(() => Boolean(me.value?.administrator || me.value?.auditor || me.value?.owner))
const reach = computed(() => {
  const found = next.data.value
  if (!found) return ''
  const share = found.half ? ` ${counted(found.half, 'action')} would clear half of the risk${found.nine_tenths ? `, ${found.nine_tenths} nine tenths of it` : ''}.` : ''
  return `${counted(found.flags, 'flag')} about ${counted(found.matters, 'matter')} are open.${share}`
})
const nothing = computed(() => {
  const found = next.data.value
  if (!found?.flags) return 'No flag is open on what you answer for.'
  if (found.as_of === null || found.is_due) return 'What each action would clear is being worked out. The list appears by itself.'
  return found.postponed ? 'You have put off every action.' : `${counted(found.flags, 'flag')} are open that no action clears.`
})
const ending = computed(() => data.value?.ends.reduce((sum, week) => sum + week.count, 0) ?? 0)
const option = computed(() => (isDark.value, endsOption(data.value?.ends ?? [])))
const headline = computed(() => {
  const found = data.value
  if (!found) return ''
  const parts = []
  if (found.items_to_decide) parts.push(`${counted(found.items_to_decide, 'item')} to decide`)
  if (found.questions_to_answer) parts.push(`${counted(found.questions_to_answer, 'question')} to answer`)
  if (next.data.value?.actions.length) parts.push(`${counted(next.data.value.actions.length, 'action')} to begin with`)
  if (found.revocations_going_on) parts.push(`${counted(found.revocations_going_on, 'revocation')} in progress`)
  return parts.length ? parts.join(', ') : 'Nothing to do now'
})
</script>

<template>
  <p class="text-soft">{{ me?.organisation.name }}, today</p>
  <h1 class="mb-5 text-3xl">{{ headline || 'Today' }}</h1>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="grid items-start gap-5" :class="answers ? 'lg:grid-cols-[3fr_2fr]' : 'max-w-2xl'">
    <section v-if="answers" class="card" aria-labelledby="first">
      <div class="flex items-baseline justify-between gap-4 px-5 pt-4">
        <h2 id="first" class="text-xl">Do these first</h2>
        <RouterLink to="/flags" class="link whitespace-nowrap">All flags</RouterLink>
      </div>
      <p v-if="next.data.value?.actions.length" class="px-5 text-soft">{{ reach }}</p>
      <StateNote :status="next.status.value" :error="next.error.value" class="px-5 pb-4" @retry="next.refetch()" />
      <p v-if="next.data.value && !next.data.value.actions.length" class="px-5 py-6 text-soft">{{ nothing }}</p>
      <ActionList v-if="next.data.value?.actions.length" :actions="next.data.value.actions" class="mt-2" @changed="next.refetch()" />
      <p v-if="next.data.value?.postponed" class="border-t border-line px-5 py-3 text-sm text-soft">
        You have put {{ counted(next.data.value.postponed, 'action') }} off.
        <button class="link" @click="withPostponed = !withPostponed">{{ withPostponed ? 'Leave them out' : 'Show them, too' }}</button>
      </p>
    </section>
    <div class="space-y-5">
      <section v-if="data.requests_pending || data.offers_pending || data.questions_to_answer" class="card p-5" aria-labelledby="answers">
        <h2 id="answers" class="text-xl">Waiting for an answer</h2>
        <p v-if="data.questions_to_answer" class="mt-1"><RouterLink to="/mine#questions" class="link">{{ counted(data.questions_to_answer, 'question') }}</RouterLink> about your access</p>
        <p v-if="data.requests_pending" class="mt-1"><RouterLink to="/requests?filter=state+eq+%22pending%22" class="link">{{ counted(data.requests_pending, 'request') }}</RouterLink> for access</p>
        <p v-if="data.offers_pending" class="mt-1"><RouterLink to="/offers?filter=state+eq+%22pending%22" class="link">{{ counted(data.offers_pending, 'offer') }}</RouterLink> not answered yet</p>
      </section>
      <section v-if="data.exposures.open" class="card p-5" aria-labelledby="open">
        <h2 id="open" class="text-xl">Open to outsiders</h2>
        <p class="mt-1"><RouterLink to="/exposures" class="link">{{ counted(data.exposures.open, 'exposure') }}</RouterLink>, <RouterLink :to="{ path: '/exposures', query: { filter: UNJUDGED } }" class="link">{{ data.exposures.unjudged }} not judged</RouterLink></p>
        <p v-if="data.exposures.anyone_changes" class="mt-1 font-semibold text-rust">By <RouterLink :to="{ path: '/exposures', query: { filter: ANYONE_CHANGES } }" class="link">{{ counted(data.exposures.anyone_changes, 'exposure') }}</RouterLink> anyone can change something</p>
      </section>
      <section v-if="data.rounds.length" class="card p-5" aria-labelledby="reviews">
        <h2 id="reviews" class="text-xl">Reviews</h2>
        <ul class="mt-2 space-y-3">
          <li v-for="round in data.rounds" :key="round.id">
            <RouterLink :to="`/rounds/${round.id}`" class="link font-medium">{{ round.name }}</RouterLink>
            <p class="text-sm text-soft">{{ round.decided }} of {{ round.items }} decided, due {{ day(round.due_at) }}</p>
            <progress :value="round.decided" :max="round.items" class="h-2 w-full accent-moss" :aria-label="`Progress of ${round.name}`" />
          </li>
        </ul>
      </section>
      <section class="card p-5" aria-labelledby="going">
        <h2 id="going" class="text-xl">Revocations in progress</h2>
        <p v-if="!data.revocations.length" class="mt-1 text-soft">None is in progress.</p>
        <ul class="mt-2 space-y-2">
          <li v-for="row in data.revocations" :key="row.id">
            <RouterLink :to="`/revocations/${row.id}`" class="link">{{ row.title }}</RouterLink>
            <p class="text-sm text-soft">{{ plain(row.state) }}, {{ row.steps_done }} of {{ counted(row.steps, 'step') }}, since {{ moment(row.created_at) }}</p>
          </li>
        </ul>
        <p v-for="system in data.systems_down" :key="system.id" class="mt-3 rounded-md bg-rust-wash p-3">
          <strong>{{ system.name }}</strong> has not answered since {{ moment(system.down_since) }}. Pending steps there are retried automatically.
        </p>
      </section>
      <section class="card p-5" aria-labelledby="ends">
        <h2 id="ends" class="text-xl">Expiry dates</h2>
        <p class="text-soft">{{ counted(ending, 'grant') }} {{ ending === 1 ? 'ends' : 'end' }} within twelve weeks.</p>
        <ChartBox v-if="ending" :option="option" :height="150" :label="`Grants that end, by week: ${data.ends.map((w) => `${w.week_begins}: ${w.count}`).join(', ')}`" />
      </section>
      <dl class="card grid grid-cols-2 gap-px overflow-hidden bg-line text-center sm:grid-cols-4">
        <div v-for="[name, to] in [['accounts', '/accounts'], ['grants', '/grants'], ['sessions', '/sessions'], ['unrecorded', me?.administrator ? '/drift' : '/flags?filter=rule+eq+%22unrecorded%22']]" :key="name" class="bg-card py-3">
          <dt class="text-sm text-soft"><RouterLink :to="to ?? '/'" class="link">{{ name }}</RouterLink></dt>
          <dd class="font-display text-xl font-semibold tabular-nums">{{ data.counts[name ?? ''] }}</dd>
        </div>
      </dl>
    </div>
  </div>
</template>
