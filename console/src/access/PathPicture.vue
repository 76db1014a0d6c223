<script setup lang="ts">
import { computed, ref } from 'vue'

import { gettext } from '@/frame/language'
import type { Path } from '@/service/types'
import { beside, fromPerson, mirrored, picture, throughAny, type Link, type Outsiders } from './picture'

/** Who reaches an account; or, with `person`, what a person reaches. The list beside it says the same in words. */
const props = defineProps<{ paths: Path[]; account?: string; person?: string; outsiders?: Outsiders[] }>()
const MARGIN = 12
const PILL = 210
const drawn = computed(() => (props.person ? mirrored(picture(fromPerson(props.paths), props.person), PILL) : picture(props.paths, props.account ?? '', props.outsiders)))
const about = computed(() => (props.person ? gettext('What %{person} reaches', { person: props.person }) : gettext('Who reaches %{account}', { account: props.account })))
const byId = computed(() => new Map(drawn.value.nodes.map((node) => [node.id, node])))
const picked = ref<string | null>(null)
const sought = ref('')
const shown = computed(() => (picked.value ? byId.value.get(picked.value) : undefined))
const found = computed(() => {
  const words = sought.value.trim().toLowerCase()
  return words ? drawn.value.nodes.filter((node) => [node.label, ...node.names].some((name) => name.toLowerCase().includes(words))) : []
})

/** Everything that lies on a way through what is picked or sought. */
const lit = computed(() => {
  const from = picked.value ? [picked.value] : found.value.map((node) => node.id)
  return from.length || sought.value.trim() ? throughAny(drawn.value.links, from) : null
})

function onKey(event: KeyboardEvent): void {
  if (event.key === 'Escape') picked.value = null
  else if (event.key.startsWith('Arrow')) picked.value = beside(drawn.value.nodes, picked.value, event.key)
  else return
  event.preventDefault()
}

/** From one to the other, straight through the lanes between what it passes over. */
function curve(link: Link): string {
  const from = byId.value.get(link.from)
  const to = byId.value.get(link.to)
  if (!from || !to) return ''
  let at = { x: from.x + PILL, y: from.y }
  let drawn = `M${at.x},${at.y}`
  for (const stop of [...link.over, to]) {
    const middle = (at.x + stop.x) / 2
    drawn += ` C${middle},${at.y} ${middle},${stop.y} ${stop.x},${stop.y}`
    if (stop !== to) drawn += ` L${stop.x + PILL},${stop.y}`
    at = { x: stop.x + PILL, y: stop.y }
  }
  return drawn
}

function short(text: string, most: number): string {
  return text.length > most ? `${text.slice(0, most - 1)}…` : text
}

function dim(...ids: string[]): boolean {
  return lit.value !== null && !ids.every((id) => lit.value?.has(id))
}
</script>

<template>
  <figure class="card p-3">
    <div class="mb-2 flex flex-wrap items-center gap-x-4 gap-y-1 text-sm text-soft">
      <input v-if="drawn.nodes.length > 6" v-model="sought" type="search" class="field max-w-56 text-base" :aria-label="gettext('Find in the picture')" :placeholder="gettext('Find in the picture')" />
      <span><span aria-hidden="true" class="inline-block w-6 border-t-3 border-moss align-middle" /> {{ gettext('can see or change') }}</span>
      <span><span aria-hidden="true" class="inline-block w-6 border-t-3 border-rust align-middle" /> {{ gettext('can spend or decide who gets in') }}</span>
      <span><span aria-hidden="true" class="inline-block w-6 border-t-3 border-dashed border-brass align-middle" /> {{ gettext('from outside') }}</span>
    </div>
    <div class="overflow-x-auto" tabindex="0" role="application" :aria-label="gettext('%{about}. Arrow keys go from one to the next, Escape leaves.', { about })" @keydown="onKey">
    <svg
      :viewBox="`${-MARGIN} ${-MARGIN} ${drawn.width + 2 * MARGIN} ${drawn.height + 2 * MARGIN}`"
      :style="{ minWidth: `${Math.min(drawn.width, 680)}px`, maxHeight: '760px' }"
      class="mx-auto block w-full"
      role="img"
      :aria-label="gettext('%{about} by which path; the list says the same', { about })"
    >
      <g v-for="link in drawn.links" :key="`${link.from}>${link.to}`" :opacity="dim(link.from, link.to) ? 0.12 : 1">
        <path
          :d="curve(link)"
          fill="none"
          :stroke="link.reach >= 3 ? 'var(--color-rust)' : 'var(--color-moss)'"
          :stroke-width="Math.min(1.5 + Math.sqrt(link.count), 12)"
          :stroke-dasharray="byId.get(person ? link.to : link.from)!.outside ? '5 4' : undefined"
          stroke-opacity="0.55"
        />
      </g>
      <g v-for="node in drawn.nodes" :key="node.id" :transform="`translate(${node.x},${node.y})`" :opacity="dim(node.id) ? 0.25 : 1" class="cursor-pointer" @click="picked = picked === node.id ? null : node.id">
        <title>{{ node.names.length ? node.names.join(', ') : node.label }}</title>
        <rect
          :y="-node.height / 2 + 3" :width="PILL" :height="node.height - 6" rx="6"
          :fill="node.id === 'account' ? 'var(--color-moss)' : node.kind === 'person' ? 'var(--color-card)' : 'var(--color-sunk)'"
          :stroke="node.reach >= 3 ? 'var(--color-rust)' : node.outside ? 'var(--color-brass)' : 'var(--color-line)'"
          :stroke-dasharray="node.outside ? '4 3' : undefined"
          :stroke-width="picked === node.id ? 3 : node.reach >= 3 ? 1.6 : 1.1"
        />
        <text x="10" :y="node.note ? -2 : 4" font-size="12.5" :font-weight="node.id === 'account' || node.count > 1 ? 650 : 500" :fill="node.id === 'account' ? 'var(--color-moss-ink)' : 'var(--color-ink)'">{{ short(node.label, node.id === 'account' ? 30 : 28) }}</text>
        <text v-if="node.note" x="10" y="12" font-size="10" fill="var(--color-soft)">{{ short(node.note, 38) }}</text>
      </g>
    </svg>
    </div>
    <figcaption class="mt-2 text-sm text-soft" aria-live="polite">
      <template v-if="shown"><strong class="text-ink">{{ [shown.label, shown.note].filter(Boolean).join(', ') }}</strong>{{ shown.names.length ? `: ${shown.names.join(', ')}` : '' }}</template>
      <template v-else-if="sought.trim()">{{ found.length ? gettext('Found: %{labels}.', { labels: found.map((node) => node.label).join(', ') }) : gettext('Nobody and nothing here is called so.') }}</template>
      <template v-else>{{ gettext('Many who come in the same way are one bundle. Pick one to follow its way.') }}</template>
    </figcaption>
  </figure>
</template>
