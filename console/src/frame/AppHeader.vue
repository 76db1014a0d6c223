<script setup lang="ts">
import { Menu, MenuButton, MenuItem, MenuItems } from '@headlessui/vue'
import { computed } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { isLive } from '@/service/live'
import { me, useSignOut } from '@/identity/me'
import { theme, type Theme } from './theme'

import SearchBox from '@/lists/SearchBox.vue'

const route = useRoute()
const router = useRouter()
const signOut = useSignOut()

const PLACES = [
  { to: '/', label: 'Today' },
  { to: '/mine', label: 'My access' },
  { to: '/accounts', label: 'Accounts', inside: true },
  { to: '/people', label: 'People', inside: true },
  { to: '/teams', label: 'Teams' },
  { to: '/grants', label: 'Grants', inside: true },
  { to: '/apps', label: 'Apps', inside: true },
  { to: '/sessions', label: 'Sessions', inside: true },
  { to: '/flags', label: 'Flags', inside: true },
  { to: '/exposures', label: 'Exposures' },
  { to: '/map', label: 'Map' },
  { to: '/ends', label: 'Ends' },
  { to: '/rules', label: 'Rules' },
  { to: '/rounds', label: 'Reviews' },
  { to: '/offers', label: 'Offers', inside: true },
  { to: '/requests', label: 'Requests', inside: true },
  { to: '/tasks', label: 'By hand', inside: true },
  { to: '/revocations', label: 'Revocations', inside: true },
  { to: '/levels', label: 'Levels', inside: true },
  { to: '/journal', label: 'Journal', inside: true },
  { to: '/drift', label: 'Drift', administrator: true },
  { to: '/systems', label: 'Systems', administrator: true },
  { to: '/sign-ins', label: 'Sign-ins', administrator: true },
  { to: '/partners', label: 'Partners', administrator: true },
  { to: '/settings', label: 'Settings', administrator: true },
]
// Inside an account only what is about it is open.
const places = computed(() => PLACES.filter((place) => (me.value?.inside ? place.inside : !place.administrator || me.value?.administrator || me.value?.auditor)))
const home = computed(() => (me.value?.inside ? `/accounts/${me.value.inside.account.id}` : '/'))
// Whoever is at several organisations has it in sight at which.
const isAtSeveral = computed(() => Boolean(me.value?.elsewhere))
const THEMES: Theme[] = ['system', 'light', 'dark']

function isHere(to: string): boolean {
  return to === '/' ? route.path === '/' : route.path.startsWith(to)
}

async function leave(): Promise<void> {
  await signOut()
  await router.push('/sign-in')
}
</script>

<template>
  <header class="border-b border-line bg-card">
    <div class="mx-auto flex max-w-[1240px] flex-wrap items-center gap-x-5 gap-y-1 px-4 py-2 sm:px-6">
      <RouterLink :to="home" class="flex items-center gap-2 py-1 font-display text-lg font-bold">
        <img src="/mark.svg" alt="" class="size-7" />
        Open Latch
      </RouterLink>
      <p class="mr-auto min-w-0 truncate text-soft" :class="{ 'rounded-md border-l-4 border-l-sky bg-sky-wash px-2 py-0.5 font-semibold text-ink': isAtSeveral }" data-test="organisation"><span v-if="me?.as_partner" class="font-normal">at your client </span>{{ me?.organisation.name }}</p>
      <nav aria-label="Places" class="order-last -mx-2 flex w-full gap-x-0.5 overflow-x-auto md:flex-wrap md:overflow-visible">
        <RouterLink
          v-for="place in places"
          :key="place.to"
          :to="place.to"
          :aria-current="isHere(place.to) ? 'page' : undefined"
          class="rounded-md border-b-2 border-transparent px-1.5 py-1.5 text-sm whitespace-nowrap text-soft hover:bg-sunk hover:text-ink aria-[current]:rounded-b-none aria-[current]:border-brass aria-[current]:font-semibold aria-[current]:text-ink"
        >
          {{ place.label }}
        </RouterLink>
      </nav>
      <SearchBox v-if="!me?.inside" class="ml-auto" />
      <RouterLink v-if="!me?.inside" to="/notices" class="button border-transparent bg-transparent">Notices<span v-if="me?.notices" class="rounded-full bg-brass-wash px-1.5 text-sm font-semibold text-brass tabular-nums">{{ me.notices }}</span></RouterLink>
      <Menu as="div" class="relative" :class="{ 'ml-auto': me?.inside }">
        <MenuButton class="button border-transparent bg-transparent" data-test="who">
          <span
            class="size-2 rounded-full"
            :class="isLive ? 'bg-moss' : 'border border-soft'"
            :title="isLive ? 'Updates live' : 'Not connected; trying again'"
          />
          {{ me?.person.name }}
          <span class="sr-only">, {{ isLive ? 'changes appear by themselves' : 'not connected' }}</span>
        </MenuButton>
        <MenuItems class="absolute right-0 z-40 mt-1 w-64 rounded-lg border border-line bg-card p-1 shadow-lg outline-none">
          <p class="px-3 py-2 text-soft">{{ me?.organisation.name }}<span v-if="me?.auditor" class="block">as auditor: you see everything and change nothing</span></p>
          <MenuItem v-if="!me?.inside" v-slot="{ active }"><RouterLink to="/me" class="block rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">My sign-in</RouterLink></MenuItem>
          <MenuItem v-if="!me?.inside && isAtSeveral" v-slot="{ active }"><RouterLink to="/organisations" class="block rounded-md px-3 py-1.5" :class="active ? 'bg-sunk' : ''">My organisations</RouterLink></MenuItem>
          <MenuItem v-for="name in THEMES" :key="name" v-slot="{ active }">
            <button class="w-full rounded-md px-3 py-1.5 text-left" :class="active ? 'bg-sunk' : ''" @click="theme = name">
              {{ name === 'system' ? 'Light or dark as the system' : name === 'dark' ? 'Dark' : 'Light' }}
              <span v-if="theme === name" class="float-right text-soft">chosen</span>
            </button>
          </MenuItem>
          <MenuItem v-slot="{ active }">
            <button class="mt-1 w-full rounded-md border-t border-line px-3 py-2 text-left" :class="active ? 'bg-sunk' : ''" @click="leave">
              Sign out
            </button>
          </MenuItem>
        </MenuItems>
      </Menu>
    </div>
  </header>
</template>
