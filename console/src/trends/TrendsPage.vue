<script setup lang="ts">
import { gettext, ngettext, pgettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { isDark } from '@/frame/theme'
import { day, number } from '@/frame/words'
import ChartBox from '@/frame/ChartBox.vue'
import DayField from '@/frame/DayField.vue'
import PageHead from '@/frame/PageHead.vue'
import StateNote from '@/frame/StateNote.vue'
import { me } from '@/identity/me'
import { get } from '@/service/api'
import type { TrendPoint } from '@/service/types'

import { linesOption, lookOf, took, unrecordedLines } from './charts'
import LetterBox from './LetterBox.vue'

type Span = 'day' | 'week' | 'month'
const SPANS: { span: Span; label: string }[] = [
  { span: 'day', label: gettext('Days') },
  { span: 'week', label: gettext('Weeks') },
  { span: 'month', label: gettext('Months') },
]

const ABOUT_A_DOZEN: Record<Span, string> = { day: gettext('about a dozen days ago'), week: gettext('about a dozen weeks ago'), month: gettext('about a dozen months ago') }

const route = useRoute()
const router = useRouter()
const asked = computed(() => ({
  span: (SPANS.some((one) => one.span === route.query.span) ? route.query.span : 'week') as Span,
  since: route.query.since ? String(route.query.since) : undefined,
  until: route.query.until ? String(route.query.until) : undefined,
}))
const { data, status, error, refetch } = useQuery({ key: () => ['trends', asked.value], query: () => get('/trends', asked.value), placeholderData: (before) => before })

function ask(change: Partial<typeof asked.value>): void {
  const query = Object.fromEntries(Object.entries({ ...asked.value, ...change }).filter(([, value]) => value))
  void router.replace({ query })
}

const print = () => window.print()
const away = computed(() => `/api/v1/trends/export?${new URLSearchParams(Object.entries(asked.value).filter(([, value]) => value) as [string, string][])}`)
const points = computed(() => data.value?.points ?? [])
const last = computed(() => points.value.at(-1))
const chosen = ref<string | null>(null)
const looked = computed<TrendPoint | undefined>(() => points.value.find((point) => point.first === chosen.value) ?? [...points.value].reverse().find((point) => point.moves.length) ?? last.value)
const knownSince = computed(() => data.value?.known_since ?? null)
const isCut = computed(() => points.value.some((point) => point.risk === null))

const risk = computed(() => (void isDark.value, linesOption(points.value, [{ name: gettext('open risk'), values: points.value.map((point) => point.risk) }])))
const lines = computed(() => [{ name: gettext('exposures'), values: points.value.map((point) => point.exposures) }, ...unrecordedLines(points.value)])
const exposed = computed(() => (void isDark.value, linesOption(points.value, lines.value)))
const riskLabel = computed(() => gettext('Open risk: %{points}', { points: points.value.map((point) => `${day(point.last)} ${point.risk ?? gettext('unknown')}`).join(', ') }))
const exposedLabel = computed(() => gettext('Exposures and unrecorded access by system, at the end of each period; the table below has the figures.'))

const span = (point: TrendPoint) => (point.first === point.last ? day(point.first) : gettext('%{first} to %{last}', { first: day(point.first).replace(/ \d{4}$/, ''), last: day(point.last) }))
const unrecorded = (point: TrendPoint) => point.unrecorded?.reduce((sum, one) => sum + one.count, 0) ?? null
const known = (count: number | null) => (count === null ? gettext('unknown') : number(count))
const days = (point: TrendPoint) => (point.departure_days === null ? '–' : took(point.departure_days * 24))
const share = (point: TrendPoint) => (point.due_items ? gettext('%{decided_in_time} of %{due_items}', { decided_in_time: point.decided_in_time, due_items: point.due_items }) : '–')
</script>

<template>
  <PageHead docs="how-to/over-time" :title="gettext('Over time')" :about="gettext('How risk, departures, revocations and reviews went, and what moved them. Taken from the journal, so it also answers for the past.')">
    <span class="flex gap-2 print:hidden">
      <a class="button" :href="away" download>{{ gettext('Export as CSV') }}</a>
      <button class="button" @click="print">{{ gettext('Print') }}</button>
    </span>
  </PageHead>
  <form class="mb-4 flex flex-wrap items-end gap-3 print:hidden" @submit.prevent>
    <div class="flex gap-1" role="group" :aria-label="gettext('Period')">
      <button v-for="one in SPANS" :key="one.span" type="button" class="rounded-full border px-3 py-1" :class="asked.span === one.span ? 'border-moss bg-moss text-moss-ink' : 'border-line bg-card hover:bg-sunk'" :aria-pressed="asked.span === one.span" @click="ask({ span: one.span })">{{ one.label }}</button>
    </div>
    <DayField :model-value="asked.since ?? ''" past :label="pgettext('time', 'From')" :placeholder="ABOUT_A_DOZEN[asked.span]" class="w-56" @update:model-value="(value) => ask({ since: value || undefined })" />
    <DayField :model-value="asked.until ?? ''" past :label="pgettext('time', 'To')" :placeholder="gettext('today')" class="w-56" @update:model-value="(value) => ask({ until: value || undefined })" />
  </form>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data && status !== 'error'">
    <p v-if="isCut && knownSince" class="mb-3 text-soft">{{ gettext('The journal begins on %{known_since}. Of the time before, nothing is known.', { known_since: day(knownSince) }) }}</p>
    <div class="grid gap-5 lg:grid-cols-2 print:grid-cols-1">
      <section class="card min-w-0 p-5" aria-labelledby="risk">
        <h2 id="risk" class="text-xl">{{ gettext('Open risk') }}</h2>
        <p class="text-soft">{{ gettext('The scores of all open flags together') }}<template v-if="last?.flags != null">{{ gettext('; now %{count}', { count: ngettext('%{n} flag', '%{n} flags', last.flags) }) }}</template></p>
        <ChartBox :option="risk" :label="riskLabel" :height="220" />
      </section>
      <section class="card min-w-0 p-5" aria-labelledby="exposed">
        <h2 id="exposed" class="text-xl">{{ gettext('Exposures and unrecorded access') }}</h2>
        <p class="text-soft">{{ gettext('What outsiders can reach, and what systems have that nobody recorded') }}</p>
        <ChartBox :option="exposed" :label="exposedLabel" :height="220" />
        <ul class="mt-2 flex flex-wrap gap-x-4 text-sm" :aria-label="gettext('Legend')">
          <li v-for="(line, at) in lines" :key="line.name"><span aria-hidden="true" :style="{ color: lookOf(at).colour }">{{ lookOf(at).sign }}</span> {{ at ? gettext('unrecorded in %{line}', { line: line.name }) : line.name }}: {{ line.values.at(-1) ?? gettext('unknown') }}</li>
        </ul>
      </section>
    </div>
    <section class="card mt-5 overflow-x-auto print:overflow-visible" aria-labelledby="figures" tabindex="0">
      <h2 id="figures" class="px-5 pt-4 text-xl">{{ gettext('Figures') }}</h2>
      <table class="w-full min-w-[860px] text-left print:min-w-0 print:text-sm">
        <thead class="border-b border-line text-sm text-soft">
          <tr>
            <th scope="col" class="px-5 py-2 font-normal">{{ gettext('Period') }}</th>
            <th scope="col" class="px-3 py-2 text-right font-normal">{{ gettext('Open risk') }}</th>
            <th scope="col" class="px-3 py-2 text-right font-normal">{{ gettext('Flags') }}</th>
            <th scope="col" class="px-3 py-2 text-right font-normal" :title="gettext('From leaving until all that was revoked is confirmed as gone by the systems; the median')">{{ gettext('Departure to confirmed gone') }}</th>
            <th scope="col" class="px-3 py-2 text-right font-normal" :title="gettext('From revoking until the systems confirmed it; the median')">{{ gettext('Revoked to confirmed') }}</th>
            <th scope="col" class="px-3 py-2 text-right font-normal">{{ gettext('Reviewed in time') }}</th>
            <th scope="col" class="px-3 py-2 text-right font-normal">{{ gettext('Exposures') }}</th>
            <th scope="col" class="px-5 py-2 text-right font-normal">{{ gettext('Unrecorded') }}</th>
          </tr>
        </thead>
        <tbody class="divide-y divide-line tabular-nums">
          <tr v-for="point in points" :key="point.first" :class="looked?.first === point.first ? 'bg-brass-wash' : ''">
            <th scope="row" class="px-5 py-1.5 font-normal whitespace-nowrap"><button class="link" :aria-pressed="looked?.first === point.first" @click="chosen = point.first">{{ span(point) }}</button></th>
            <td class="px-3 py-1.5 text-right" :class="point.risk === null ? 'text-soft' : ''">{{ known(point.risk) }}</td>
            <td class="px-3 py-1.5 text-right" :class="point.flags === null ? 'text-soft' : ''">{{ known(point.flags) }}</td>
            <td class="px-3 py-1.5 text-right">{{ days(point) }}<span v-if="point.departures_open" class="block text-sm text-rust">{{ gettext('%{departures_open} not all gone', { departures_open: point.departures_open }) }}</span></td>
            <td class="px-3 py-1.5 text-right">{{ took(point.confirm_hours) }}<span v-if="point.confirmed || point.waiting" class="block text-sm text-soft">{{ gettext('%{confirmed} confirmed, %{waiting} in progress', { confirmed: point.confirmed, waiting: point.waiting }) }}</span></td>
            <td class="px-3 py-1.5 text-right">{{ share(point) }}</td>
            <td class="px-3 py-1.5 text-right" :class="point.exposures === null ? 'text-soft' : ''">{{ known(point.exposures) }}</td>
            <td class="px-5 py-1.5 text-right" :class="point.unrecorded === null ? 'text-soft' : ''">{{ known(unrecorded(point)) }}</td>
          </tr>
        </tbody>
      </table>
    </section>
    <section v-if="looked" class="card mt-5 p-5" aria-labelledby="moved" aria-live="polite">
      <h2 id="moved" class="text-xl">{{ gettext('What moved them, %{looked}', { looked: span(looked) }) }}</h2>
      <ul v-if="looked.moves.length" class="mt-2 grid gap-x-8 gap-y-1 md:grid-cols-2">
        <li v-for="move in looked.moves" :key="move.sentence"><RouterLink v-if="move.page" :to="move.page" class="link">{{ move.sentence }}</RouterLink><template v-else>{{ move.sentence }}</template></li>
      </ul>
      <p v-else class="mt-1 text-soft">{{ gettext('Nothing moved.') }}</p>
    </section>
    <LetterBox v-if="me?.administrator || me?.auditor" class="mt-5 print:hidden" />
  </template>
</template>
