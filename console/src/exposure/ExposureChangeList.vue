<script setup lang="ts">
import { computed } from 'vue'

import type { ExposureChanges } from '@/service/types'

const props = defineProps<{ changes: Pick<ExposureChanges, 'counts' | 'lines' | 'more'> }>()
const shown = computed(() => props.changes.lines.filter((line) => line.change !== 'unchanged'))
const WORDS = { new: 'opens', gone: 'closes', changed: 'changes', unchanged: 'stays' } as const
const COLOURS = { new: 'text-rust', gone: 'text-moss', changed: 'text-brass', unchanged: 'text-soft' } as const
</script>

<template>
  <p class="text-soft" data-test="counts">{{ changes.counts.new }} would open, {{ changes.counts.gone }} would close, {{ changes.counts.changed }} would change, {{ changes.counts.unchanged }} stay as they are.</p>
  <ul v-if="shown.length" class="mt-2 divide-y divide-line">
    <li v-for="line in shown" :key="line.account.id + (line.resource?.id ?? '') + line.right" class="grid grid-cols-[5.5rem_1fr] gap-x-3 py-2">
      <strong :class="COLOURS[line.change]">{{ WORDS[line.change] }}{{ line.change === 'changed' && line.grew ? ', wider' : '' }}</strong>
      <div>
        <p>{{ line.sentence }} <span class="text-soft">{{ line.account.name }}; by {{ line.rules.join(', ') }}<template v-if="line.narrowed_by.length">, narrowed by {{ line.narrowed_by.join(', ') }}</template>.</span></p>
        <p v-if="line.change === 'changed' && line.gained.length" class="text-sm text-rust">Also lets in: {{ line.gained.join('; ') }}.</p>
        <p v-if="line.change === 'changed' && line.lost.length" class="text-sm text-moss">No longer lets in: {{ line.lost.join('; ') }}.</p>
        <p v-if="line.forbidden && line.change !== 'gone'" class="text-sm text-rust">Breaks a guard.</p>
        <p v-for="text in line.not_understood" :key="text" class="text-sm text-brass">Not understood, and counted as open: {{ text }}</p>
      </div>
    </li>
  </ul>
  <p v-if="changes.more" class="mt-2 text-soft">And {{ changes.more }} more.</p>
</template>
