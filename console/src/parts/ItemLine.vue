<script setup lang="ts">
import { computed } from 'vue'

import type { ItemRow } from '@/data/types'
import { SEVERITY_WORDS, ago } from '@/lib/words'

import ReachMark from './ReachMark.vue'

const props = defineProps<{ item: ItemRow; open: boolean }>()
defineEmits<{ toggle: [] }>()
const worst = computed(() => Math.max(0, ...props.item.facts.flags.map((flag) => flag.severity)))
const VERDICTS = { keep: 'kept', trim: 'trimmed', revoke: 'revoked' } as const
</script>

<template>
  <button
    class="grid w-full gap-x-4 gap-y-0.5 px-5 py-3 text-left hover:bg-sky-wash/60 md:grid-cols-[2.5rem_2fr_2fr_7rem_1.4fr_7rem] md:items-center"
    :aria-expanded="open"
    :data-test="`item-${item.position}`"
    @click="$emit('toggle')"
  >
    <span class="text-soft tabular-nums">{{ item.position }}</span>
    <span class="font-medium">{{ item.facts.holder.name }}</span>
    <span>{{ item.facts.account.name }}<span class="block text-sm text-soft">{{ item.facts.level }}</span></span>
    <ReachMark :reach="item.facts.reach" />
    <span class="text-sm">
      <span class="block text-soft">used {{ ago(item.facts.last_used_at) }}</span>
      <span v-if="worst" :class="worst >= 3 ? 'font-semibold text-rust' : 'text-brass'">{{ item.facts.flags.length }} flags, {{ SEVERITY_WORDS[worst] }}</span>
    </span>
    <span :class="item.verdict ? 'font-semibold' : 'text-soft'">{{ item.verdict ? VERDICTS[item.verdict] : 'undecided' }}</span>
  </button>
</template>
