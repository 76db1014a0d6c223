<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Combobox, ComboboxButton, ComboboxInput, ComboboxOption, ComboboxOptions } from '@headlessui/vue'
import { computed, ref } from 'vue'

import type { AttributeOf } from '@/service/types'

import { attributeWords } from './filters'

/** Picks an attribute of a list by its name or by what it means. */
const picked = defineModel<string>({ required: true })
const props = defineProps<{ attributes: AttributeOf[]; label: string }>()
const typed = ref('')
const shown = computed(() => {
  const words = typed.value.toLowerCase().split(/\s+/).filter(Boolean)
  return props.attributes.filter((one) => words.every((word) => `${attributeWords(one.name)} ${one.sentence}`.toLowerCase().includes(word)))
})
</script>

<template>
  <Combobox v-model="picked" as="div" class="relative">
    <ComboboxInput class="field pr-8" :display-value="(name) => (name ? attributeWords(String(name)) : '')" :aria-label="label" :placeholder="gettext('What')" autocomplete="off" @change="typed = ($event.target as HTMLInputElement).value" @blur="typed = ''" />
    <ComboboxButton class="absolute inset-y-0 right-0 w-8 text-soft" :aria-label="label">▾</ComboboxButton>
    <ComboboxOptions class="absolute z-20 mt-1 max-h-72 w-80 max-w-[90vw] overflow-auto rounded-md border border-line bg-card py-1 shadow-lg">
      <ComboboxOption v-for="one in shown" :key="one.name" v-slot="{ active }" :value="one.name">
        <span class="block px-3 py-1" :class="active ? 'bg-sunk' : ''">{{ attributeWords(one.name) }}<span class="block text-sm text-soft">{{ one.sentence }}</span></span>
      </ComboboxOption>
      <li v-if="!shown.length" class="px-3 py-1 text-soft">{{ gettext('No attribute is called so.') }}</li>
    </ComboboxOptions>
  </Combobox>
</template>
