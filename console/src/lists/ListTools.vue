<script setup lang="ts">
import { gettext } from '@/frame/language'
import { number, plain } from '@/frame/words'
import { watchDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import type { FilterKept } from '@/service/types'

import FilterBuilder from './FilterBuilder.vue'
import KeptFilters from './KeptFilters.vue'

const search = defineModel<string>('search', { required: true })
const filter = defineModel<string>('filter', { required: true })
const props = defineProps<{ count: number | null; noun: string; choices?: { label: string; filter: string }[]; list?: string }>()
const route = useRoute()
const router = useRouter()
const sort = computed(() => String(route.query.sort ?? ''))
// The list is called by what is in it, unless it is said; one that stands beside others has no name of its own.
const list = computed(() => props.list ?? props.noun)

function use(kept: FilterKept): void {
  typed.value = search.value = kept.search
  filter.value = kept.filter
  if (kept.sort) void router.replace({ query: { ...route.query, sort: kept.sort } })
}

function away(format: 'csv' | 'json'): string {
  const asked = new URLSearchParams(Object.entries({ format, filter: filter.value, search: search.value, sort: sort.value }).filter(([, value]) => value))
  return `/api/v1/exports/${list.value}?${asked.toString()}`
}

const typed = ref(search.value)
const written = ref(filter.value)
const isOpen = ref(false)

watchDebounced(typed, (value) => (search.value = value), { debounce: 250 })
watch(filter, (value) => (written.value = value))
</script>

<template>
  <div class="mb-3 flex flex-wrap items-center gap-2">
    <input v-model="typed" type="search" class="field max-w-64" :aria-label="gettext('Search %{noun}', { noun: plain(noun) })" :placeholder="gettext('Search %{noun}', { noun: plain(noun) })" />
    <div v-if="choices" class="flex flex-wrap gap-1" role="group" :aria-label="gettext('Show')">
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
    <details class="grow" @toggle="isOpen = ($event.target as HTMLDetailsElement).open">
      <summary class="w-fit cursor-pointer rounded-md px-2 py-1 text-soft hover:text-ink">{{ list ? gettext('Filter, save, export') : gettext('Filter') }}</summary>
      <FilterBuilder v-if="list && isOpen" v-model="filter" :list="list" />
      <form v-else-if="isOpen" class="mt-1 flex gap-2" @submit.prevent="filter = written">
        <input v-model="written" class="field font-mono text-sm" :aria-label="gettext('Filter')" :placeholder="gettext('account.sensitivity ge 3 and not (last_used_at pr)')" />
        <button class="button">{{ gettext('Apply') }}</button>
      </form>
      <p v-if="list" class="mt-1 flex flex-wrap items-center gap-2">
        <KeptFilters :list="list" :filter="filter" :search="search" :sort="sort" @use="use" />
        <span class="text-soft">{{ gettext('Export:') }} <a class="link" :href="away('csv')" download>{{ gettext('CSV') }}</a>, <a class="link" :href="away('json')" download>{{ gettext('JSON') }}</a></span>
      </p>
    </details>
    <p class="ml-auto text-soft tabular-nums" role="status">
      <template v-if="count !== null">{{ number(count) }} {{ plain(noun) }}</template>
    </p>
  </div>
</template>
