<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get } from '@/service/api'
import { me } from '@/identity/me'
import { ago } from '@/frame/words'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import HolderName from '@/people/HolderName.vue'
import PageHead from '@/frame/PageHead.vue'
import ReachMark from '@/frame/ReachMark.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['grants', 'map'], query: () => get('/map') })
const picked = ref<string[]>([])
const isChanging = ref(false)

const counts = computed(() => new Map((data.value?.cells ?? []).map((cell) => [`${cell.danger}.${cell.idle}`, cell.count])))
const most = computed(() => Math.max(...counts.value.values(), 1))
const rows = computed(() => [...(data.value?.dangers.keys() ?? [])].reverse())
const total = computed(() => picked.value.reduce((sum, key) => sum + (counts.value.get(key) ?? 0), 0))

/** One filter for everything picked: the rows of each column together. */
const filter = computed(() => {
  const found = data.value
  if (!found) return ''
  const columns = new Map<number, number[]>()
  for (const key of picked.value) {
    const [danger, idle] = key.split('.').map(Number) as [number, number]
    columns.set(idle, [...(columns.get(idle) ?? []), danger])
  }
  const either = [...columns].map(([idle, dangers]) => `(${found.idle_filters[idle]}) and (${dangers.map((danger) => found.danger_filters[danger]).join(' or ')})`)
  return either.length ? `state ne "pending" and state ne "ended" and (${either.map((one) => `(${one})`).join(' or ')})` : ''
})
const list = useQuery({
  key: () => ['grants', 'on map', filter.value],
  query: () => get('/grants', { filter: filter.value, limit: 30, count: true, sort: 'last_used_at' }),
  enabled: () => filter.value !== '',
})

function toggle(key: string): void {
  picked.value = picked.value.includes(key) ? picked.value.filter((one) => one !== key) : [...picked.value, key]
}

/** A whole row or column, for those that hold something. */
function toggleAll(keys: string[]): void {
  const held = keys.filter((key) => counts.value.has(key))
  picked.value = held.every((key) => picked.value.includes(key)) ? picked.value.filter((key) => !held.includes(key)) : [...new Set([...picked.value, ...held])]
}

function strength(danger: number, idle: number): number {
  const count = counts.value.get(`${danger}.${idle}`) ?? 0
  return count ? 0.12 + 0.88 * Math.sqrt(count / most.value) : 0
}
const size = (danger: number, idle: number) => `${Math.round(18 + 62 * strength(danger, idle))}%`
</script>

<template>
  <PageHead :title="gettext('Unused and dangerous')" :words="['grant','reach','sensitivity']" :about="gettext('Every live grant by how dangerous it is and how long it went unused. Grants at the top right are the most urgent. Select a region to act on it.')" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="card overflow-x-auto p-4" tabindex="0" role="group" :aria-label="gettext('The map')">
    <table class="w-full min-w-[640px] table-fixed border-separate border-spacing-1">
      <caption class="sr-only">{{ gettext('Grants by danger and by how long they went unused') }}</caption>
      <thead>
        <tr>
          <th class="w-24 text-left text-sm font-normal text-soft" scope="col">{{ gettext('danger, last used') }}</th>
          <th v-for="(name, idle) in data.idles" :key="name" scope="col" class="text-sm font-semibold">
            <button class="w-full rounded-sm px-1 py-1 hover:bg-sunk" @click="toggleAll(rows.map((danger) => `${danger}.${idle}`))">{{ name === 'never' ? gettext('never used') : name }}</button>
          </th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="danger in rows" :key="danger">
          <th scope="row" class="text-left"><button class="w-full rounded-sm px-1 py-1 text-left hover:bg-sunk" @click="toggleAll(data.idles.map((_, idle) => `${danger}.${idle}`))">{{ data.dangers[danger] }}</button></th>
          <td v-for="(name, idle) in data.idles" :key="name" class="p-0">
            <button
              v-if="counts.get(`${danger}.${idle}`)"
              class="relative grid h-20 w-full place-items-center overflow-hidden rounded-md border"
              :class="picked.includes(`${danger}.${idle}`) ? 'border-2 border-ink bg-brass-wash' : 'border-line bg-sunk/40 hover:bg-sunk'"
              :aria-pressed="picked.includes(`${danger}.${idle}`)"
              :aria-label="gettext('%{counts} grants: danger %{dangers}, %{name}', { counts: counts.get(`${danger}.${idle}`), dangers: data.dangers[danger], name: name === 'never' ? gettext('never used') : gettext('used %{name}', { name }) })"
              @click="toggle(`${danger}.${idle}`)"
            >
              <span class="absolute aspect-square rounded-full" :style="{ height: size(danger, idle), background: danger + idle >= 5 ? 'var(--color-rust)' : danger + idle >= 4 ? 'var(--color-brass)' : 'var(--color-moss)', opacity: 0.24 }" />
              <span class="relative font-display text-lg font-semibold tabular-nums">{{ counts.get(`${danger}.${idle}`) }}</span>
            </button>
            <div v-else class="h-20 rounded-md border border-dashed border-line" />
          </td>
        </tr>
      </tbody>
    </table>
  </div>
  <section v-if="picked.length" class="mt-5" aria-labelledby="picked">
    <div class="mb-2 flex flex-wrap items-center gap-3">
      <h2 id="picked" class="text-xl">{{ gettext('%{count} selected', { count: ngettext('%{n} grant', '%{n} grants', total) }) }}</h2>
      <button v-if="me?.administrator || me?.owner" class="button-end" @click="isChanging = true">{{ gettext('Change or end %{count}', { count: ngettext('%{n} grant', '%{n} grants', total) }) }}</button>
      <RouterLink :to="{ path: '/grants', query: { filter } }" class="link">{{ gettext('Show as a list') }}</RouterLink>
      <button class="link" @click="picked = []">{{ gettext('Clear selection') }}</button>
    </div>
    <ul v-if="list.data.value?.rows.length" class="card divide-y divide-line">
      <li v-for="grant in list.data.value.rows" :key="grant.id" class="grid gap-x-4 px-5 py-2 md:grid-cols-[1.4fr_1.4fr_8rem_9rem]">
        <HolderName :holder="grant.holder" class="font-medium" />
        <RouterLink :to="`/accounts/${grant.account.id}`" class="link">{{ grant.account.name }}</RouterLink>
        <ReachMark :reach="grant.reach ?? 1" />
        <span class="text-soft">{{ grant.last_used_at ? gettext('used %{last_used_at}', { last_used_at: ago(grant.last_used_at) }) : gettext('never used') }}</span>
      </li>
    </ul>
    <ChangeDialog :open="isChanging" :filter="filter" only="end" :title="gettext('End %{count}', { count: ngettext('%{n} grant', '%{n} grants', total) })" @close="isChanging = false" @done="refetch()" />
  </section>
</template>
