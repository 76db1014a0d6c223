<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Disclosure, DisclosureButton, DisclosurePanel } from '@headlessui/vue'
import { RouterLink } from 'vue-router'

import { usePlaces, type Group } from './places'

defineProps<{ counts: Record<string, number> }>()
const { groups, here } = usePlaces()

const countOf = (group: Group, counts: Record<string, number>): number => group.places.reduce((sum, place) => sum + (counts[place.to] ?? 0), 0)
</script>

<template>
  <Disclosure v-slot="{ close }" as="div" class="order-last w-full md:hidden">
    <div class="flex items-center gap-3 border-t border-line pt-1">
      <DisclosureButton class="button border-transparent bg-transparent px-1"><span aria-hidden="true">☰</span> {{ gettext('Menu') }}</DisclosureButton>
      <p v-if="here" class="min-w-0 truncate text-sm text-soft"><template v-if="here.group.places.length > 1">{{ here.group.label }} › </template><span class="font-semibold text-ink">{{ here.place.label }}</span></p>
    </div>
    <DisclosurePanel as="nav" :aria-label="gettext('All places')" class="columns-2 gap-x-4 pb-2">
      <div v-for="group in groups" :key="group.label" class="break-inside-avoid py-1">
        <p v-if="group.places.length > 1" class="px-1 text-sm font-semibold text-soft">{{ group.label }}</p>
        <RouterLink v-for="place in group.places" :key="place.to" :to="place.to" class="flex min-h-9 items-center rounded-md px-1 aria-[current]:font-semibold" :aria-current="here?.place.to === place.to ? 'page' : undefined" @click="close()">
          {{ place.label }}<span v-if="counts[place.to]" class="ml-2 rounded-full bg-brass-wash px-1.5 text-sm font-semibold text-brass tabular-nums">{{ counts[place.to] }}</span>
        </RouterLink>
      </div>
    </DisclosurePanel>
  </Disclosure>
  <div class="order-last hidden w-full md:block">
    <nav :aria-label="gettext('Places')" class="-mx-2 flex gap-x-1">
      <RouterLink
        v-for="group in groups"
        :key="group.label"
        :to="group.places[0]!.to"
        :aria-current="here?.group.label === group.label ? (group.places.length > 1 ? 'true' : 'page') : undefined"
        class="rounded-md border-b-2 border-transparent px-2.5 py-1.5 text-soft hover:bg-sunk hover:text-ink aria-[current]:rounded-b-none aria-[current]:border-brass aria-[current]:font-semibold aria-[current]:text-ink"
      >
        {{ group.label }}<span v-if="countOf(group, counts)" class="ml-1.5 rounded-full bg-brass-wash px-1.5 text-sm font-semibold text-brass tabular-nums">{{ countOf(group, counts) }}</span>
      </RouterLink>
    </nav>
    <nav v-if="here && here.group.places.length > 1" :aria-label="here.group.label" class="-mx-2 flex gap-x-0.5 border-t border-line pt-0.5">
      <RouterLink
        v-for="place in here.group.places"
        :key="place.to"
        :to="place.to"
        :aria-current="here.place.to === place.to ? 'page' : undefined"
        class="rounded-md px-2.5 py-1 text-sm text-soft hover:bg-sunk hover:text-ink aria-[current]:bg-sunk aria-[current]:font-semibold aria-[current]:text-ink"
      >
        {{ place.label }}<span v-if="counts[place.to]" class="ml-1 rounded-full bg-brass-wash px-1.5 font-semibold text-brass tabular-nums">{{ counts[place.to] }}</span>
      </RouterLink>
    </nav>
  </div>
</template>
