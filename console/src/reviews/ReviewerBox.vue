<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref, watch } from 'vue'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { day, moment } from '@/frame/words'

import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'


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
    <h2 id="reviewing" class="text-xl">{{ gettext('Reviews and my calendar') }}</h2>
    <p v-if="absence.data.value?.since">
      {{ gettext('Away from %{since}', { since: day(absence.data.value.since) }) }}<template v-if="absence.data.value.until">{{ ` ${gettext('to %{until}', { until: day(absence.data.value.until) })}` }}</template>; {{ absence.data.value.deputy ? gettext('%{deputy} decides for you', { deputy: absence.data.value.deputy.name }) : gettext('nobody decides for you') }}.
      <button class="link" @click="back">{{ gettext('I’m back') }}</button>
    </p>
    <p v-else-if="!isAway">{{ gettext('You are there to decide in reviews.') }} <button class="link" @click="isAway = true">{{ gettext('Say when you are away') }}</button></p>
    <form v-if="isAway" class="grid gap-3 rounded-md bg-sunk p-3 sm:grid-cols-2" @submit.prevent="leave">
      <DayField v-model="since" required :label="gettext('First day away')" />
      <DayField v-model="until" end :label="gettext('Last day away')" />
      <label class="block font-semibold sm:col-span-2">{{ gettext('Who decides meanwhile') }} <select v-model="deputy" class="field mt-1 font-normal"><option value="">{{ gettext('nobody') }}</option><option v-for="person in absence.data.value?.could_stand_in ?? []" :key="person.id" :value="person.id">{{ person.name }}</option></select></label>
      <div class="flex gap-2 sm:col-span-2"><button class="button-main">{{ gettext('Away') }}</button><button type="button" class="button" @click="isAway = false">{{ gettext('Cancel') }}</button></div>
    </form>
    <p v-if="address">{{ gettext('Give this address to your calendar program, and to nobody else; it is shown only now:') }} <span class="block font-mono text-sm break-all">{{ address }}</span></p>
    <p v-if="calendar.data.value?.made_at">
      {{ gettext('Your calendar of due dates and ends has an address since %{made_at}, %{read_at}.', { made_at: day(calendar.data.value.made_at), read_at: calendar.data.value.read_at ? gettext('last read %{read_at}', { read_at: moment(calendar.data.value.read_at) }) : gettext('not read yet') }) }}
      <button class="link" @click="make">{{ gettext('Create a new one') }}</button> {{ gettext('or') }} <button class="link" @click="end">{{ gettext('end it') }}</button>.
    </p>
    <p v-else>{{ gettext('Due dates and ends of access can be in your calendar.') }} <button class="link" @click="make">{{ gettext('Create a calendar address') }}</button></p>
    <ProblemNote :error="failed" />
  </section>
</template>
