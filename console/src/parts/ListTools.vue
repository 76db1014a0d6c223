<script setup lang="ts">
import { ref, watch } from 'vue'

const search = defineModel<string>('search', { required: true })
const filter = defineModel<string>('filter', { required: true })
defineProps<{ count: number | null; noun: string; choices?: { label: string; filter: string }[] }>()

const typed = ref(search.value)
const written = ref(filter.value)
let timer: number | undefined

watch(typed, (value) => {
  window.clearTimeout(timer)
  timer = window.setTimeout(() => (search.value = value), 250)
})
watch(filter, (value) => (written.value = value))
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <input v-model="typed" type="search" class="field max-w-64" :aria-label="`Search ${noun}`" :placeholder="`Search ${noun}`" />
    <div v-if="choices" class="flex flex-wrap gap-1" role="group" aria-label="Show">
      <button
        v-for="choice in choices"
        :key="choice.label"
        class="rounded-full border px-3 py-1"
        :class="filter === choice.filter ? 'border-moss bg-moss text-moss-ink' : 'border-line bg-card hover:bg-sunk'"
        :aria-pressed="filter === choice.filter"
        @click="filter = choice.filter"
      >
        {{ choice.label }}
      </button>
    </div>
    <details class="grow">
      <summary class="w-fit cursor-pointer rounded-md px-2 py-1 text-soft hover:text-ink">Filter</summary>
      <form class="mt-1 flex gap-2" @submit.prevent="filter = written">
        <input v-model="written" class="field font-mono text-sm" aria-label="Filter" placeholder='account.sensitivity ge 3 and not (last_used_at pr)' />
        <button class="button">Apply</button>
      </form>
    </details>
    <p class="ml-auto text-soft tabular-nums" role="status">
      <template v-if="count !== null">{{ count.toLocaleString('en-GB') }} {{ noun }}</template>
    </p>
  </div>
</template>
