<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Combobox, ComboboxInput, ComboboxOption, ComboboxOptions, Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'
import { useQuery } from '@pinia/colada'
import { refDebounced } from '@vueuse/core'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { get } from '@/service/api'
import type { Found } from '@/service/types'
import { usePlaces } from '@/frame/places'
import { plain } from '@/frame/words'

type One = Found['found'][number]
const KINDS: Record<One['kind'], string> = { people: gettext('People'), accounts: gettext('Accounts'), apps: gettext('Apps'), teams: gettext('Teams'), grants: gettext('Grants'), flags: gettext('Flags'), rounds: gettext('Reviews'), systems: gettext('Systems') }
const router = useRouter()
const isOpen = ref(false)
const typed = ref('')
const words = refDebounced(computed(() => typed.value.trim()), 150)
const { data, status, isPlaceholderData } = useQuery({
  key: () => ['search', words.value],
  query: () => get('/search', { q: words.value }),
  enabled: () => isOpen.value && words.value.length >= 2,
  placeholderData: (before) => before,
})
const groups = computed(() => {
  // Never from an answer to what was typed before.
  const isCurrent = typed.value.trim() === words.value && !isPlaceholderData.value
  const found = words.value.length >= 2 && isCurrent ? (data.value?.found ?? []) : []
  return (Object.keys(KINDS) as One['kind'][]).map((kind) => ({ kind, rows: found.filter((one) => one.kind === kind) })).filter((group) => group.rows.length)
})

const { groups: places } = usePlaces()
// A place is found by its name, and by what is there, at once: Enter never takes one of an earlier list.
const fitting = computed(() => {
  const asked = typed.value.trim().toLowerCase()
  const all = places.value.flatMap((group) => group.places)
  return asked ? all.filter((place) => `${place.label} ${place.about}`.toLowerCase().includes(asked)).slice(0, 5) : all
})

function open(): void {
  typed.value = ''
  isOpen.value = true
}

function go(one: One | { to: string } | null): void {
  if (!one) return
  isOpen.value = false
  if ('to' in one) return void router.push(one.to)
  const ownPage = ['people', 'accounts', 'apps', 'teams', 'rounds'].includes(one.kind)
  void router.push(ownPage ? `/${one.kind}/${one.id}` : { path: `/${one.kind}`, query: one.kind === 'systems' ? {} : { filter: `id eq "${one.id}"` } })
}

/** It opens by / from any page, unless somebody is writing or answers a question; and by Ctrl-K. */
function onKey(event: KeyboardEvent): void {
  const target = event.target as HTMLElement | null
  const isWriting = target?.closest('input, textarea, select, [contenteditable]')
  const isShortcut = event.key.toLowerCase() === 'k' && (event.ctrlKey || event.metaKey)
  const isSlash = event.key === '/' && !event.ctrlKey && !event.metaKey && !event.altKey && !isWriting
  if (!(isShortcut || isSlash) || document.querySelector('[role=dialog]')) return
  event.preventDefault()
  open()
}
onMounted(() => window.addEventListener('keydown', onKey))
onBeforeUnmount(() => window.removeEventListener('keydown', onKey))
</script>

<template>
  <button class="button border-transparent bg-transparent" aria-keyshortcuts="/ Control+K" @click="open">{{ gettext('Search') }}<kbd class="ml-1 hidden rounded-sm border border-line px-1.5 text-sm text-soft sm:inline" aria-hidden="true">/</kbd></button>
  <Dialog :open="isOpen" class="relative z-50" @close="isOpen = false">
    <div class="fixed inset-0 bg-ink/40" aria-hidden="true" />
    <div class="fixed inset-0 overflow-y-auto p-4 sm:p-[10vh]">
      <DialogPanel class="mx-auto max-w-2xl rounded-lg border border-line bg-card p-4 shadow-lg">
        <DialogTitle as="h2" class="sr-only">{{ gettext('Search') }}</DialogTitle>
        <Combobox :model-value="null" @update:model-value="go">
          <ComboboxInput class="field" :aria-label="gettext('Find anything')" :placeholder="gettext('A person, an account, an app, a flag, a page…')" autocomplete="off" @change="typed = $event.target.value" />
          <ComboboxOptions static class="mt-3 max-h-[60vh] overflow-y-auto" :aria-label="gettext('Matches')">
            <template v-if="fitting.length">
              <p class="px-3 pt-2 text-sm font-semibold text-soft" aria-hidden="true">{{ gettext('Pages') }}</p>
              <ComboboxOption v-for="place in fitting" :key="place.to" v-slot="{ active }" :value="place" as="template">
                <li class="cursor-pointer rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''"><span class="sr-only">{{ `${gettext('Page:')} ` }}</span>{{ place.label }} <span class="text-sm text-soft">{{ place.about }}</span></li>
              </ComboboxOption>
            </template>
            <template v-for="group in groups" :key="group.kind">
              <p class="px-3 pt-2 text-sm font-semibold text-soft" aria-hidden="true">{{ KINDS[group.kind] }}</p>
              <ComboboxOption v-for="one in group.rows" :key="one.kind + one.id" v-slot="{ active }" :value="one" as="template">
                <li class="cursor-pointer rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''"><span class="sr-only">{{ KINDS[one.kind] }}: </span>{{ one.label }} <span v-if="one.detail" class="text-sm text-soft">{{ one.kind === 'grants' || one.kind === 'flags' ? plain(one.detail) : one.detail }}</span></li>
              </ComboboxOption>
            </template>
          </ComboboxOptions>
        </Combobox>
        <p class="mt-2 px-3 text-soft" role="status">{{ words.length < 2 ? gettext('Type two letters or more to search the register.') : status === 'pending' ? gettext('Searching…') : groups.length || fitting.length ? '' : gettext('Nothing that you may see matches.') }}</p>
      </DialogPanel>
    </div>
  </Dialog>
</template>
