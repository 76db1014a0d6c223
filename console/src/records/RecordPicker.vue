<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Combobox, ComboboxButton, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { useQuery } from '@pinia/colada'
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'

import { getAs } from '@/service/api'
import type { Named, Rows } from '@/service/types'

/** What is offered before anything is searched: other answers than a record, or records that are likely. */
export interface Choice {
  id: string
  name: string
  note?: string
}

/** Picks one record of a list by its name, searching as one types. */
const picked = defineModel<string | null>({ required: true })
const props = defineProps<{ of: string; label: string; id?: string; named?: string; filter?: string; choices?: Choice[]; without?: string[]; placeholder?: string; disabled?: boolean; required?: boolean; describedby?: string; invalid?: boolean }>()
const emit = defineEmits<{ named: [name: string] }>()

const typed = ref('')
const sought = refDebounced(typed, 200)
const chosenName = ref('')
// By name, and people by the beginning of their address: a search in everything finds “le” in every example.org.
const filter = computed(() => {
  const words = JSON.stringify(sought.value.trim())
  const named = props.of === 'people' ? `(name co ${words} or address sw ${words})` : `name co ${words}`
  return [props.filter && `(${props.filter})`, sought.value.trim() && named].filter(Boolean).join(' and ') || undefined
})
const found = useQuery({
  key: () => ['pick', props.of, filter.value ?? ''],
  query: () => getAs<Rows<Named & { address?: string | null; system?: Named }>>(`/${props.of}`, { filter: filter.value, limit: 20, sort: 'name' }),
  placeholderData: (before) => before,
  enabled: () => !props.disabled,
})
const rows = computed<Choice[]>(() => {
  const first = (props.choices ?? []).filter((one) => one.name.toLowerCase().includes(typed.value.trim().toLowerCase()))
  const known = new Set([...first.map((one) => one.id), ...(props.without ?? [])])
  const rest = (found.data.value?.rows ?? []).filter((row) => !known.has(row.id)).map((row) => ({ id: row.id, name: row.name, note: row.address ?? row.system?.name ?? '' }))
  // Until the answer to what was typed is there, what was found before is narrowed here: Enter never picks another.
  const isAnswered = sought.value === typed.value && found.asyncStatus.value === 'idle'
  const words = typed.value.toLowerCase().split(/\s+/)
  return [...first, ...(isAnswered ? rest : rest.filter((row) => words.every((word) => `${row.name} ${row.note}`.toLowerCase().includes(word))))]
})
const nameOf = (ident: string | null) => props.choices?.find((one) => one.id === ident)?.name ?? props.named
watch([picked, () => props.named], () => {
  if (picked.value === null) chosenName.value = ''
  else chosenName.value = nameOf(picked.value) || chosenName.value
}, { immediate: true })

function choose(ident: string | null): void {
  chosenName.value = rows.value.find((row) => row.id === ident)?.name ?? ''
  picked.value = ident
  emit('named', chosenName.value)
  typed.value = ''
}
</script>

<template>
  <Combobox :model-value="picked" :disabled="disabled" nullable @update:model-value="choose">
    <div class="relative">
      <ComboboxInput
        :id="id"
        class="field pr-10 font-normal"
        :aria-label="label"
        :aria-describedby="describedby"
        :aria-invalid="invalid || undefined"
        :display-value="() => chosenName"
        :required="required"
        autocomplete="off"
        :placeholder="placeholder ?? gettext('Type a name')"
        @change="typed = $event.target.value"
      />
      <ComboboxButton class="absolute inset-y-0 right-0 px-3 text-soft" :aria-label="label">▾</ComboboxButton>
      <ComboboxOptions class="absolute z-50 mt-1 max-h-64 w-full min-w-56 overflow-y-auto rounded-lg border border-line bg-card p-1 shadow-lg">
        <p v-if="!rows.length" class="px-3 py-2 text-soft">{{ gettext('No matches.') }}</p>
        <ComboboxOption v-for="row in rows" :key="row.id" v-slot="{ active }" :value="row.id" as="template">
          <li class="cursor-pointer rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">{{ row.name }} <span class="text-sm text-soft">{{ row.note }}</span></li>
        </ComboboxOption>
      </ComboboxOptions>
    </div>
  </Combobox>
</template>
