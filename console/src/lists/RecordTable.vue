<script setup lang="ts" generic="Row extends { id?: string | number; position?: number }">
import { gettext, ngettext } from '@/frame/language'

export interface Column {
  name: string
  label: string
  sort?: string
  quiet?: boolean
}

const sort = defineModel<string>('sort', { default: '' })
const picked = defineModel<string[]>('picked', { default: () => [] })
defineProps<{
  rows: Row[]
  columns: Column[]
  caption: string
  picks?: boolean
  hasMore?: boolean
  hasLess?: boolean
  /** How many match, where all of them can be picked. */
  total?: number | null
}>()
defineEmits<{ more: []; less: []; all: [] }>()

function turn(by: string): void {
  sort.value = sort.value === by ? `-${by}` : by
}

function direction(by: string): 'ascending' | 'descending' | 'none' {
  if (sort.value === by) return 'ascending'
  return sort.value === `-${by}` ? 'descending' : 'none'
}
</script>

<template>
  <p v-if="picks && picked.length" class="mb-2 flex flex-wrap gap-3">
    <span>{{ gettext('%{picked} picked.', { picked: picked.length }) }}</span>
    <button v-if="total && picked.length < total" class="link" @click="$emit('all')">{{ gettext('Select all %{count} that match', { count: Math.min(total, 500) }) }}</button>
    <button class="link" @click="picked = []">{{ gettext('Clear selection') }}</button>
  </p>
  <div class="card relative overflow-hidden md:overflow-x-auto">
    <table class="block w-full md:table">
      <caption class="sr-only">{{ caption }}</caption>
      <thead class="hidden bg-sunk text-left md:table-header-group">
        <tr>
          <th v-if="picks" scope="col" class="w-10 px-3"><span class="sr-only">{{ gettext('Pick') }}</span></th>
          <th
            v-for="column in columns"
            :key="column.name"
            scope="col"
            class="px-3 py-2 font-semibold whitespace-nowrap"
            :aria-sort="column.sort ? direction(column.sort) : undefined"
          >
            <button v-if="column.sort" class="inline-flex items-center gap-1 hover:text-link" @click="turn(column.sort)">
              {{ column.label }}
              <span aria-hidden="true" class="text-soft">{{ { ascending: '↑', descending: '↓', none: '' }[direction(column.sort)] }}</span>
            </button>
            <template v-else>{{ column.label }}<span v-if="!column.label" class="sr-only">{{ gettext('What to do') }}</span></template>
          </th>
        </tr>
      </thead>
      <tbody class="block md:table-row-group">
        <tr
          v-for="row in rows"
          :key="row.id ?? row.position"
          class="block border-t border-line px-4 py-3 first:border-t-0 hover:bg-sky-wash/60 md:table-row md:px-0 md:py-0 md:first:border-t"
        >
          <td v-if="picks" class="float-right md:float-none md:table-cell md:px-3 md:align-top">
            <input v-model="picked" type="checkbox" :value="row.id" class="mt-3 size-4.5 accent-moss" :aria-label="gettext('Select %{id}', { id: row.id })" />
          </td>
          <td
            v-for="(column, index) in columns"
            :key="column.name"
            class="block py-0.5 md:table-cell md:px-3 md:py-2.5 md:align-top"
            :class="[index === 0 ? 'font-medium' : '', column.quiet ? 'text-soft' : '']"
          >
            <span v-if="index > 0" class="mr-2 text-sm text-soft md:hidden">{{ column.label }}</span>
            <slot :name="column.name" :row="row" />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <nav v-if="hasMore || hasLess" :aria-label="gettext('Pages')" class="mt-3 flex gap-2">
    <button class="button" :disabled="!hasLess" @click="$emit('less')">{{ gettext('Before') }}</button>
    <button class="button" :disabled="!hasMore" @click="$emit('more')">{{ gettext('Next %{count}', { count: ngettext('%{n} row', '%{n} rows', rows.length) }) }}</button>
  </nav>
</template>
