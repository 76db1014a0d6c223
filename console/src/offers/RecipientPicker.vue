<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { useQuery } from '@pinia/colada'
import { refDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'

import { get } from '@/service/api'
import { isAddress, type To } from './recipients'

/** Whom an offer is for: people and teams that are known here, or anybody by an address or a handle. */
const to = defineModel<To[]>({ required: true })
const typed = ref('')
const sought = refDebounced(computed(() => typed.value.trim()), 200)
const found = useQuery({
  key: () => ['people', 'to offer', sought.value],
  query: async () => {
    const search = { search: sought.value, limit: 6 }
    const [people, teams] = await Promise.all([get('/people', { ...search, filter: 'standing ne "left"' }), get('/teams', search)])
    return { people: people.rows.filter((row) => row.address), teams: teams.rows }
  },
  enabled: () => sought.value.length > 1,
})
const isAnswered = computed(() => sought.value === typed.value.trim() && found.data.value !== undefined && found.asyncStatus.value === 'idle')
interface Option extends To {
  note: string
}
const options = computed<Option[]>(() => {
  const words = typed.value.trim()
  if (words.length < 2) return []
  const { people = [], teams = [] } = found.data.value ?? {}
  const known = people.some((person) => person.address?.toLowerCase() === words.toLowerCase())
  const unknown: Option = isAddress(words)
    ? { key: words, label: words, body: { address: words, name: '' }, note: gettext('nobody with this address is known here') }
    : { key: `handle:${words}`, label: gettext('%{words}, by handle', { words }), body: { handle: words }, note: gettext('in the system of the account') }
  return [
    ...people.map((person) => ({ key: person.id, label: person.name, body: { person: person.id }, note: `${person.address}, ${person.inside ? gettext('inside') : gettext('outside')}` })),
    ...teams.map((team) => ({ key: team.id, label: team.name, body: { team: team.id }, note: gettext('%{partner} of %{members}', { partner: team.partner ? gettext('partner organisation') : gettext('team'), members: team.members }) })),
    // That nobody is called so is only known once the search has answered.
    ...(isAnswered.value && !known ? [unknown] : []),
  ]
})

function add(chosen: Option | null): void {
  typed.value = ''
  if (chosen && !to.value.some((one) => one.key === chosen.key)) to.value = [...to.value, { key: chosen.key, label: chosen.label, body: chosen.body }]
}
const takeOut = (key: string) => (to.value = to.value.filter((one) => one.key !== key))
const call = (key: string, name: string) => (to.value = to.value.map((one) => (one.key === key ? { ...one, body: { ...one.body, name } } : one)))
</script>

<template>
  <Combobox :model-value="null" nullable @update:model-value="add">
    <div class="relative">
      <label class="block font-semibold">
        {{ gettext('To whom') }}
        <ComboboxInput class="field mt-1 font-normal" :placeholder="gettext('A name, an address, or a handle')" autocomplete="off" :display-value="() => typed" @change="typed = $event.target.value" />
      </label>
      <ComboboxOptions class="absolute z-40 mt-1 max-h-72 w-full overflow-y-auto rounded-lg border border-line bg-card p-1 shadow-lg">
        <ComboboxOption v-for="one in options" :key="one.key" v-slot="{ active }" :value="one" as="template">
          <li class="cursor-pointer rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">{{ one.label }} <span class="text-soft">{{ one.note }}</span></li>
        </ComboboxOption>
      </ComboboxOptions>
    </div>
  </Combobox>
  <ul v-if="to.length" class="mt-2 flex flex-wrap gap-2" :aria-label="gettext('Chosen')">
    <li v-for="one in to" :key="one.key" class="flex items-center gap-2 rounded-full border border-line bg-sunk py-1 pr-1 pl-3">
      {{ one.label }}
      <input v-if="one.body.address" class="field w-40" :aria-label="gettext('Name of %{label}', { label: one.label })" :placeholder="gettext('Their name')" :value="one.body.name" @change="call(one.key, ($event.target as HTMLInputElement).value)" />
      <button type="button" class="rounded-full px-2 hover:bg-card" :aria-label="gettext('Take %{label} out', { label: one.label })" @click="takeOut(one.key)">×</button>
    </li>
  </ul>
</template>
