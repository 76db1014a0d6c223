<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get } from '@/service/api'
import { me } from '@/identity/me'
import { endsOption } from '@/access/charts'
import { ANYONE_CHANGES, UNJUDGED } from '@/exposure/exposure'
import { isDark } from '@/frame/theme'
import { day, moment, plain } from '@/frame/words'
import ChartBox from '@/frame/ChartBox.vue'
import ChangeProgress from '@/grants/ChangeProgress.vue'
import ActionList from '@/next/ActionList.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['today'], query: () => get('/today') })

const withPostponed = ref(false)
const next = useQuery({ key: () => ['next', withPostponed.value], query: () => get('/next', { postponed: withPostponed.value }) })
const answers = computed(() => Boolean(me.value?.administrator || me.value?.auditor || me.value?.owner))
const reach = computed(() => {
  const found = next.data.value
  if (!found) return ''
  const share = found.half ? ` ${gettext('%{count} would clear half of the risk%{nine_tenths}.', { count: ngettext('%{n} action', '%{n} actions', found.half), nine_tenths: found.nine_tenths ? gettext(', %{nine_tenths} nine tenths of it', { nine_tenths: found.nine_tenths }) : '' })}` : ''
  return gettext('%{count} about %{count_2} are open.%{share}', { count: ngettext('%{n} flag', '%{n} flags', found.flags), count_2: ngettext('%{n} matter', '%{n} matters', found.matters), share })
})
const nothing = computed(() => {
  const found = next.data.value
  if (!found?.flags) return gettext('No flag is open on what you answer for.')
  if (found.as_of === null || found.is_due) return gettext('What each action would clear is being worked out. The list appears by itself.')
  return found.postponed ? gettext('You have put off every action.') : gettext('%{count} are open that no action clears.', { count: ngettext('%{n} flag', '%{n} flags', found.flags) })
})
const ending = computed(() => data.value?.ends.reduce((sum, week) => sum + week.count, 0) ?? 0)
const option = computed(() => (isDark.value, endsOption(data.value?.ends ?? [])))
const headline = computed(() => {
  const found = data.value
  if (!found) return ''
  const parts = []
  if (found.items_to_decide) parts.push(gettext('%{count} to decide', { count: ngettext('%{n} item', '%{n} items', found.items_to_decide) }))
  if (found.questions_to_answer) parts.push(gettext('%{count} to answer', { count: ngettext('%{n} question', '%{n} questions', found.questions_to_answer) }))
  if (next.data.value?.actions.length) parts.push(gettext('%{count} to begin with', { count: ngettext('%{n} action', '%{n} actions', next.data.value.actions.length) }))
  if (found.revocations_going_on) parts.push(gettext('%{count} in progress', { count: ngettext('%{n} revocation', '%{n} revocations', found.revocations_going_on) }))
  return parts.length ? parts.join(', ') : gettext('Nothing to do now')
})
</script>

<template>
  <p class="text-soft">{{ gettext('%{organisation}, today', { organisation: me?.organisation.name }) }}</p>
  <h1 class="mb-5 text-3xl">{{ headline || gettext('Today') }}</h1>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="grid items-start gap-5" :class="answers ? 'lg:grid-cols-[3fr_2fr]' : 'max-w-2xl'">
    <section v-if="answers" class="card" aria-labelledby="first">
      <div class="flex items-baseline justify-between gap-4 px-5 pt-4">
        <h2 id="first" class="text-xl">{{ gettext('Do these first') }}</h2>
        <RouterLink to="/flags" class="link whitespace-nowrap">{{ gettext('All flags') }}</RouterLink>
      </div>
      <p v-if="next.data.value?.actions.length" class="px-5 text-soft">{{ reach }}</p>
      <StateNote :status="next.status.value" :error="next.error.value" class="px-5 pb-4" @retry="next.refetch()" />
      <p v-if="next.data.value && !next.data.value.actions.length" class="px-5 py-6 text-soft">{{ nothing }}</p>
      <ActionList v-if="next.data.value?.actions.length" :actions="next.data.value.actions" class="mt-2" @changed="next.refetch()" />
      <p v-if="next.data.value?.postponed" class="border-t border-line px-5 py-3 text-sm text-soft">
        {{ gettext('You have put %{count} off.', { count: ngettext('%{n} action', '%{n} actions', next.data.value.postponed) }) }}
        <button class="link" @click="withPostponed = !withPostponed">{{ withPostponed ? gettext('Leave them out') : gettext('Show them, too') }}</button>
      </p>
    </section>
    <div class="space-y-5">
      <section v-if="data.requests_pending || data.offers_pending || data.questions_to_answer" class="card p-5" aria-labelledby="answers">
        <h2 id="answers" class="text-xl">{{ gettext('Waiting for an answer') }}</h2>
        <p v-if="data.questions_to_answer" class="mt-1"><RouterLink to="/mine#questions" class="link">{{ ngettext('%{n} question', '%{n} questions', data.questions_to_answer) }}</RouterLink> {{ gettext('about your access') }}</p>
        <p v-if="data.requests_pending" class="mt-1"><RouterLink to="/requests?filter=state+eq+%22pending%22" class="link">{{ ngettext('%{n} request', '%{n} requests', data.requests_pending) }}</RouterLink> {{ gettext('for access') }}</p>
        <p v-if="data.offers_pending" class="mt-1"><RouterLink to="/offers?filter=state+eq+%22pending%22" class="link">{{ ngettext('%{n} offer', '%{n} offers', data.offers_pending) }}</RouterLink> {{ gettext('not answered yet') }}</p>
      </section>
      <section v-if="data.exposures.open" class="card p-5" aria-labelledby="open">
        <h2 id="open" class="text-xl">{{ gettext('Open to outsiders') }}</h2>
        <p class="mt-1"><RouterLink to="/exposures" class="link">{{ ngettext('%{n} exposure', '%{n} exposures', data.exposures.open) }}</RouterLink>, <RouterLink :to="{ path: '/exposures', query: { filter: UNJUDGED } }" class="link">{{ gettext('%{unjudged} not judged', { unjudged: data.exposures.unjudged }) }}</RouterLink></p>
        <p v-if="data.exposures.anyone_changes" class="mt-1 font-semibold text-rust">{{ gettext('By') }} <RouterLink :to="{ path: '/exposures', query: { filter: ANYONE_CHANGES } }" class="link">{{ ngettext('%{n} exposure', '%{n} exposures', data.exposures.anyone_changes) }}</RouterLink> {{ gettext('anyone can change something') }}</p>
      </section>
      <section v-if="data.rounds.length" class="card p-5" aria-labelledby="reviews">
        <h2 id="reviews" class="text-xl">{{ gettext('Reviews') }}</h2>
        <ul class="mt-2 space-y-3">
          <li v-for="round in data.rounds" :key="round.id">
            <RouterLink :to="`/rounds/${round.id}`" class="link font-medium">{{ round.name }}</RouterLink>
            <p class="text-sm text-soft">{{ gettext('%{decided} of %{items} decided, due %{due_at}', { decided: round.decided, items: round.items, due_at: day(round.due_at) }) }}</p>
            <progress :value="round.decided" :max="round.items" class="h-2 w-full accent-moss" :aria-label="gettext('Progress of %{round}', { round: round.name })" />
          </li>
        </ul>
      </section>
      <section class="card p-5" aria-labelledby="going">
        <h2 id="going" class="text-xl">{{ gettext('Revocations in progress') }}</h2>
        <p v-if="!data.revocations.length" class="mt-1 text-soft">{{ gettext('None is in progress.') }}</p>
        <ul class="mt-2 space-y-2">
          <li v-for="row in data.revocations" :key="row.id">
            <RouterLink :to="`/revocations/${row.id}`" class="link">{{ row.title }}</RouterLink>
            <p class="text-sm text-soft">{{ gettext('%{state}, %{steps_done} of %{count}, since %{created_at}', { state: plain(row.state), steps_done: row.steps_done, count: ngettext('%{n} step', '%{n} steps', row.steps), created_at: moment(row.created_at) }) }}</p>
          </li>
        </ul>
        <ChangeProgress v-for="change in data.changes" :key="change.id" :change="change" class="mt-3" @stopped="refetch()" />
        <p v-for="system in data.systems_down" :key="system.id" class="mt-3 rounded-md bg-rust-wash p-3">
          <strong>{{ system.name }}</strong> {{ gettext('has not answered since %{down_since}. Pending steps there are retried automatically.', { down_since: moment(system.down_since) }) }}
        </p>
      </section>
      <section class="card p-5" aria-labelledby="ends">
        <h2 id="ends" class="text-xl">{{ gettext('Expiry dates') }}</h2>
        <p class="text-soft">{{ ngettext('%{n} grant ends within twelve weeks.', '%{n} grants end within twelve weeks.', ending) }}</p>
        <ChartBox v-if="ending" :option="option" :height="150" :label="gettext('Grants that end, by week: %{ends}', { ends: data.ends.map((w) => `${w.week_begins}: ${w.count}`).join(', ') })" />
      </section>
      <dl class="card grid grid-cols-2 gap-px overflow-hidden bg-line text-center sm:grid-cols-4">
        <div v-for="[name, to] in [['accounts', '/accounts'], ['grants', '/grants'], ['sessions', '/sessions'], ['unrecorded', me?.administrator ? '/drift' : '/flags?filter=rule+eq+%22unrecorded%22']]" :key="name" class="bg-card py-3">
          <dt class="text-sm text-soft"><RouterLink :to="to ?? '/'" class="link">{{ plain(name) }}</RouterLink></dt>
          <dd class="font-display text-xl font-semibold tabular-nums">{{ data.counts[name ?? ''] }}</dd>
        </div>
      </dl>
    </div>
  </div>
</template>
