<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { isLive } from '@/service/live'
import { me, useSignOut } from '@/identity/me'
import { theme, type Theme } from './theme'

import KeyHelp from './KeyHelp.vue'
import PlacesNav from './PlacesNav.vue'
import SearchBox from '@/lists/SearchBox.vue'

const router = useRouter()
const signOut = useSignOut()

const home = computed(() => (me.value?.inside ? `/accounts/${me.value.inside.account.id}` : '/'))
// Whoever is at several organisations has it in sight at which.
const isAtSeveral = computed(() => Boolean(me.value?.elsewhere))
// What waits for somebody, beside the place where it does.
const counts = computed((): Record<string, number> => ({ '/rounds': me.value?.to_decide ?? 0, '/requests': me.value?.to_answer ?? 0 }))
const THEMES: Theme[] = ['system', 'light', 'dark']

async function leave(): Promise<void> {
  await signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <header class="border-b border-line bg-card print:hidden">
    <div class="mx-auto flex max-w-[1240px] flex-wrap items-center gap-x-5 gap-y-1 px-4 py-2 sm:px-6">
      <RouterLink :to="home" class="flex items-center gap-2 py-1 font-display text-lg font-bold">
        <img src="/mark.svg" alt="" class="size-7" />
        {{ gettext('Open Latch') }}
      </RouterLink>
      <p class="mr-auto min-w-0 truncate text-soft" :class="{ 'rounded-md border-l-4 border-l-sky bg-sky-wash px-2 py-0.5 font-semibold text-ink': isAtSeveral }" data-test="organisation"><span v-if="me?.as_partner" class="font-normal">{{ `${gettext('at your client')} ` }}</span>{{ me?.organisation.name }}</p>
      <PlacesNav :counts="counts" />
      <SearchBox v-if="!me?.inside" class="ml-auto" />
      <KeyHelp />
      <RouterLink v-if="!me?.inside" to="/notices" class="button border-transparent bg-transparent">{{ gettext('Notices') }}<span v-if="me?.notices" class="rounded-full bg-brass-wash px-1.5 text-sm font-semibold text-brass tabular-nums">{{ me.notices }}</span></RouterLink>
      <Menu as="div" class="relative" :class="{ 'ml-auto': me?.inside }">
        <MenuButton class="button border-transparent bg-transparent" data-test="who">
          <span
            class="size-2 rounded-full"
            :class="isLive ? 'bg-moss' : 'border border-soft'"
            :title="isLive ? gettext('Updates live') : gettext('Not connected; trying again')"
          />
          {{ me?.person.name }}
          <span class="sr-only">, {{ isLive ? gettext('changes appear by themselves') : gettext('not connected') }}</span>
        </MenuButton>
        <MenuItems class="absolute right-0 z-40 mt-1 w-64 rounded-lg border border-line bg-card p-1 shadow-lg outline-none">
          <p class="px-3 py-2 text-soft">{{ me?.organisation.name }}<span v-if="me?.auditor" class="block">{{ gettext('as auditor: you see everything and change nothing') }}</span></p>
          <MenuItem v-if="!me?.inside" v-slot="{ active }"><RouterLink to="/me" class="block rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">{{ gettext('My sign-in') }}</RouterLink></MenuItem>
          <MenuItem v-if="!me?.inside && isAtSeveral" v-slot="{ active }"><RouterLink to="/organisations" class="block rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">{{ gettext('My organisations') }}</RouterLink></MenuItem>
          <MenuItem v-for="name in THEMES" :key="name" v-slot="{ active }">
            <button class="w-full rounded-md px-3 py-1.5 text-left" :class="active ? 'bg-sunk' : ''" @click="theme = name">
              {{ name === 'system' ? gettext('Light or dark as the system') : name === 'dark' ? gettext('Dark') : gettext('Light') }}
              <span v-if="theme === name" class="float-right text-soft">{{ gettext('chosen') }}</span>
            </button>
          </MenuItem>
          <MenuItem v-slot="{ active }">
            <a href="/docs/" target="_blank" rel="noopener" class="block w-full rounded-md px-3 py-2" :class="active ? 'bg-sunk' : ''">{{ gettext('Documentation') }}</a>
          </MenuItem>
          <MenuItem v-slot="{ active }">
            <button class="mt-1 w-full rounded-md border-t border-line px-3 py-2 text-left" :class="active ? 'bg-sunk' : ''" @click="leave">
              {{ gettext('Sign out') }}
            </button>
          </MenuItem>
        </MenuItems>
      </Menu>
    </div>
  </header>
</template>
