<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { longDay, monthOf } from '@/frame/words'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get } from '@/service/api'
import type { EndOf } from '@/service/types'
import PageHead from '@/frame/PageHead.vue'
import StateNote from '@/frame/StateNote.vue'

const months = 4
const start = ref(firstOf(new Date()))
const { data, status, error, refetch } = useQuery({
  key: () => ['grants', 'ends', start.value],
  query: () => get('/ends', { since: `${start.value}T00:00:00Z`, months }),
  placeholderData: (before) => before,
})
const picked = ref<string | null>(null)
const byDay = computed(() => new Map((data.value?.days ?? []).map((day) => [day.day, day])))
const most = computed(() => Math.max(...(data.value?.days ?? []).map(sum), 1))
const shown = computed(() => (picked.value ? byDay.value.get(picked.value) : undefined))

function iso(at: Date): string {
  return `${at.getFullYear()}-${String(at.getMonth() + 1).padStart(2, '0')}-${String(at.getDate()).padStart(2, '0')}`
}

function firstOf(at: Date): string {
  return iso(new Date(at.getFullYear(), at.getMonth(), 1))
}

function sum(day: EndOf): number {
  return day.grants + day.people + day.offers + day.rounds
}

function words(day: EndOf): string {
  const parts = []
  if (day.grants) parts.push(ngettext('%{n} grant ends', '%{n} grants end', day.grants))
  if (day.people) parts.push(ngettext('%{n} person leaves', '%{n} people leave', day.people))
  if (day.offers) parts.push(ngettext('%{n} offer runs out', '%{n} offers run out', day.offers))
  if (day.rounds) parts.push(ngettext('%{n} review is due', '%{n} reviews are due', day.rounds))
  return parts.join(', ')
}

/** The months shown: each a name and its weeks, Monday first, with empty places before and after. */
const calendar = computed(() =>
  Array.from({ length: months }, (_, n) => {
    const [year, month] = start.value.split('-').map(Number) as [number, number]
    const first = new Date(year, month - 1 + n, 1)
    const days = new Date(first.getFullYear(), first.getMonth() + 1, 0).getDate()
    const places: (string | null)[] = [...Array((first.getDay() + 6) % 7).fill(null), ...Array.from({ length: days }, (_one, d) => iso(new Date(first.getFullYear(), first.getMonth(), d + 1)))]
    while (places.length % 7) places.push(null)
    return { name: monthOf(first), weeks: Array.from({ length: places.length / 7 }, (_one, w) => places.slice(w * 7, w * 7 + 7)) }
  }),
)
const today = iso(new Date())

function move(by: number): void {
  const [year, month] = start.value.split('-').map(Number) as [number, number]
  start.value = iso(new Date(year, month - 1 + by, 1))
  picked.value = null
}
</script>

<template>
  <PageHead :title="gettext('Expiry dates')" :about="gettext('Grants, people who leave, offers that run out, reviews that are due. The fuller a day, the more ends on it.')">
    <div class="flex gap-2">
      <button class="button" @click="move(-months)">{{ gettext('Earlier') }}</button>
      <button class="button" @click="move(months)">{{ gettext('Later') }}</button>
    </div>
  </PageHead>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="grid gap-5 sm:grid-cols-2 xl:grid-cols-4">
    <table v-for="month in calendar" :key="month.name" class="card w-full table-fixed border-separate border-spacing-1 p-3">
      <caption class="mb-1 font-display text-lg font-semibold">{{ month.name }}</caption>
      <thead><tr><th v-for="name in ['Mo', 'Tu', 'We', 'Th', 'Fr', 'Sa', 'Su']" :key="name" scope="col" class="text-xs font-normal text-soft">{{ name }}</th></tr></thead>
      <tbody>
        <tr v-for="(week, place) in month.weeks" :key="place">
          <td v-for="(day, at) in week" :key="at" class="p-0 text-center">
            <button
              v-if="day && byDay.get(day)"
              class="relative h-9 w-full overflow-hidden rounded-md border text-sm tabular-nums"
              :class="[picked === day ? 'border-2 border-ink' : 'border-brass/60', day === today ? 'font-bold' : '']"
              :aria-pressed="picked === day"
              :aria-label="`${day}: ${words(byDay.get(day)!)}`"
              :title="words(byDay.get(day)!)"
              @click="picked = picked === day ? null : day"
            >
              <span class="absolute inset-x-0 bottom-0 bg-brass/30" :style="{ height: `${25 + 75 * Math.sqrt(sum(byDay.get(day)!) / most)}%` }" />
              <span class="relative">{{ Number(day.slice(8)) }}</span>
              <span v-if="byDay.get(day)!.people" class="absolute top-0.5 right-0.5 size-1.5 rounded-full bg-rust" />
            </button>
            <span v-else-if="day" class="block h-9 text-sm leading-9 text-soft tabular-nums" :class="day === today ? 'font-bold text-ink underline' : ''">{{ Number(day.slice(8)) }}</span>
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <section v-if="shown" class="card mt-5 p-5" aria-labelledby="day">
    <h2 id="day" class="text-xl">{{ longDay(shown.day) }}: {{ words(shown) }}</h2>
    <ul class="mt-2 list-disc pl-5"><li v-for="name in shown.names" :key="name">{{ name }}</li></ul>
    <RouterLink v-if="shown.grants" :to="{ path: '/grants', query: { filter: `state ne &quot;ended&quot; and until gt &quot;${shown.day}T00:00:00Z&quot; and until lt &quot;${shown.day}T23:59:59Z&quot;`, sort: 'until' } }" class="link mt-2 inline-block">{{ gettext('These grants as a list') }}</RouterLink>
  </section>
  <p class="mt-3 text-sm text-soft">{{ gettext('A red point marks a day on which somebody leaves.') }}</p>
</template>
