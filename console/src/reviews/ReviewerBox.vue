<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { ref, watch } from 'vue'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { day, moment } from '@/frame/words'

import ProblemNote from '@/frame/ProblemNote.vue'


const own = () => `/people/${me.value?.person.id ?? ''}/absence` as const
const absence = useQuery({ key: ['mine', 'absence'], query: () => get(own()) })
const calendar = useQuery({ key: ['mine', 'calendar'], query: () => get('/me/calendar') })
const since = ref('')
const until = ref('')
const deputy = ref('')
const address = ref('')
const failed = ref<unknown>(null)
const isAway = ref(false)
watch(absence.data, (found) => (deputy.value = found?.deputy?.id ?? ''), { immediate: true })

async function attempt(call: () => Promise<unknown>): Promise<void> {
  failed.value = null
  try {
    await call()
    isAway.value = false
  } catch (problem) {
    failed.value = problem
  }
  void absence.refetch()
  void calendar.refetch()
}
const leave = () => attempt(() => send('PUT', own(), {
  first_day: since.value,
  last_day: until.value || null,
  deputy: deputy.value || null,
}))
const back = () => attempt(() => send('PUT', own(), { since: null, until: null, deputy: deputy.value || null }))
const make = () => attempt(async () => { address.value = (await send('POST', '/me/calendar')).address ?? '' })
const end = () => attempt(async () => { await send('DELETE', '/me/calendar'); address.value = '' })
</script>

<template>
  <section class="card space-y-3 p-5" aria-labelledby="reviewing">
    <h2 id="reviewing" class="text-xl">Reviews and my calendar</h2>
    <p v-if="absence.data.value?.since">
      Away from {{ day(absence.data.value.since) }}<template v-if="absence.data.value.until"> to {{ day(absence.data.value.until) }}</template>; {{ absence.data.value.deputy ? `${absence.data.value.deputy.name} decides for you` : 'nobody decides for you' }}.
      <button class="link" @click="back">I’m back</button>
    </p>
    <p v-else-if="!isAway">You are there to decide in reviews. <button class="link" @click="isAway = true">Say when you are away</button></p>
    <form v-if="isAway" class="grid gap-3 rounded-md bg-sunk p-3 sm:grid-cols-2" @submit.prevent="leave">
      <label class="block font-semibold">First day away <input v-model="since" type="date" required class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">Last day away <input v-model="until" type="date" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold sm:col-span-2">Who decides meanwhile <select v-model="deputy" class="field mt-1 font-normal"><option value="">nobody</option><option v-for="person in absence.data.value?.could_stand_in ?? []" :key="person.id" :value="person.id">{{ person.name }}</option></select></label>
      <div class="flex gap-2 sm:col-span-2"><button class="button-main">Away</button><button type="button" class="button" @click="isAway = false">Cancel</button></div>
    </form>
    <p v-if="address">Give this address to your calendar program, and to nobody else; it is shown only now: <span class="block font-mono text-sm break-all">{{ address }}</span></p>
    <p v-if="calendar.data.value?.made_at">
      Your calendar of due dates and ends has an address since {{ day(calendar.data.value.made_at) }}, {{ calendar.data.value.read_at ? `last read ${moment(calendar.data.value.read_at)}` : 'not read yet' }}.
      <button class="link" @click="make">Create a new one</button> or <button class="link" @click="end">end it</button>.
    </p>
    <p v-else>Due dates and ends of access can be in your calendar. <button class="link" @click="make">Create a calendar address</button></p>
    <ProblemNote :error="failed" />
  </section>
</template>
