<script setup lang="ts">
import { Combobox, ComboboxButton, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { useQuery } from '@pinia/colada'
import { computed, ref, watch } from 'vue'

import { get } from '@/service/api'
import type { Named, Rows } from '@/service/types'

/** Picks one record of a list by its name, searching as one types. */
const picked = defineModel<string | null>({ required: true })
const props = defineProps<{ of: string; label: string; id: string; named?: string; filter?: string; disabled?: boolean; describedby?: string; invalid?: boolean }>()
const emit = defineEmits<{ named: [name: string] }>()

const typed = ref('')
const sought = ref('')
const chosenName = ref(props.named ?? '')
let timer: number | undefined
watch(() => props.named, (name) => (chosenName.value = name ?? chosenName.value))
watch(typed, (value) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => (sought.value = value), 200)
})
const found = useQuery({
  key: () => ['pick', props.of, props.filter ?? '', sought.value],
  query: () => get<Rows<Named & { address?: string | null; system?: Named }>>(`/${props.of}`, { search: sought.value, filter: props.filter, limit: 20, sort: 'name' }),
  placeholderData: (before) => before,
  enabled: () => !props.disabled,
})
const rows = computed(() => found.data.value?.rows ?? [])

function choose(ident: string | null): void {
  picked.value = ident
  chosenName.value = rows.value.find((row) => row.id === ident)?.name ?? ''
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
        autocomplete="off"
        placeholder="Type a name"
        @change="typed = $event.target.value"
      />
      <ComboboxButton class="absolute inset-y-0 right-0 px-3 text-soft" :aria-label="label">▾</ComboboxButton>
      <ComboboxOptions class="absolute z-50 mt-1 max-h-64 w-full overflow-y-auto rounded-lg border border-line bg-card p-1 shadow-lg">
        <p v-if="!rows.length" class="px-3 py-2 text-soft">Nothing of that name.</p>
        <ComboboxOption v-for="row in rows" :key="row.id" v-slot="{ active }" :value="row.id" as="template">
          <li class="cursor-pointer rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">{{ row.name }} <span class="text-sm text-soft">{{ row.address ?? row.system?.name ?? '' }}</span></li>
        </ComboboxOption>
      </ComboboxOptions>
    </div>
  </Combobox>
</template>
