<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Path } from '@/service/types'
import { picture, type Link, type Outsiders } from './picture'

const props = defineProps<{ paths: Path[]; account: string; outsiders?: Outsiders[] }>()
const drawn = computed(() => picture(props.paths, props.account, props.outsiders))
const byId = computed(() => new Map(drawn.value.nodes.map((node) => [node.id, node])))
const picked = ref<string | null>(null)
const shown = computed(() => (picked.value ? byId.value.get(picked.value) : undefined))

/** Everything that lies on a way through what is picked. */
const lit = computed(() => {
  if (!picked.value) return null
  const found = new Set([picked.value])
  for (let grown = true; grown;) {
    grown = false
    for (const link of drawn.value.links) {
      if (found.has(link.from) && !found.has(link.to)) grown = Boolean(found.add(link.to))
    }
  }
  const before = new Set([picked.value])
  for (let grown = true; grown;) {
    grown = false
    for (const link of drawn.value.links) {
      if (before.has(link.to) && !before.has(link.from)) grown = Boolean(before.add(link.from))
    }
  }
  return new Set([...found, ...before])
})
const MARGIN = 12
const PILL = 210

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
    <div class="overflow-x-auto" tabindex="0" role="group" :aria-label="`Picture of who reaches ${account}`">
    <svg
      :viewBox="`${-MARGIN} ${-MARGIN} ${drawn.width + 2 * MARGIN} ${drawn.height + 2 * MARGIN}`"
      :style="{ minWidth: `${Math.min(drawn.width, 680)}px`, maxHeight: '760px' }"
      class="mx-auto block w-full"
      role="img"
      :aria-label="`Who reaches ${account} by which path; the list below says the same`"
    >
      <g v-for="link in drawn.links" :key="`${link.from}>${link.to}`" :opacity="dim(link.from, link.to) ? 0.12 : 1">
        <path
          :d="curve(link)"
          fill="none"
          :stroke="link.reach >= 3 ? 'var(--color-rust)' : 'var(--color-moss)'"
          :stroke-width="Math.min(1.5 + Math.sqrt(link.count), 12)"
          :stroke-dasharray="byId.get(link.from)!.outside ? '5 4' : undefined"
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
          :stroke-width="node.reach >= 3 ? 1.6 : 1.1"
        />
        <text x="10" :y="node.note ? -2 : 4" font-size="12.5" :font-weight="node.id === 'account' || node.count > 1 ? 650 : 500" :fill="node.id === 'account' ? 'var(--color-moss-ink)' : 'var(--color-ink)'">{{ short(node.label, node.id === 'account' ? 30 : 28) }}</text>
        <text v-if="node.note" x="10" y="12" font-size="10" fill="var(--color-soft)">{{ short(node.note, 38) }}</text>
      </g>
    </svg>
    </div>
    <figcaption class="mt-2 text-sm text-soft" aria-live="polite">
      <template v-if="shown?.names.length"><strong class="text-ink">{{ shown.label }}, {{ shown.note }}:</strong> {{ shown.names.join(', ') }}</template>
      <template v-else>Red can spend or decide who else gets in; a broken line stands outside. Many who come in the same way are one bundle. Pick one to follow its way.</template>
    </figcaption>
  </figure>
</template>
