<script setup lang="ts">
import { computed } from 'vue'

import { SEVERITY_WORDS } from '@/frame/words'

const props = defineProps<{ severity: number; score?: number }>()
const word = computed(() => SEVERITY_WORDS[props.severity] ?? '')
</script>

<template>
  <span
    class="inline-flex items-baseline gap-1.5 rounded-sm border-l-4 py-0.5 pr-2 pl-2 text-sm font-semibold whitespace-nowrap"
    :class="{
      'border-rust bg-rust-wash text-rust': severity === 4,
      'border-rust text-rust': severity === 3,
      'border-brass text-brass': severity === 2,
      'border-line text-soft': severity <= 1,
    }"
  >
    {{ word }}
    <span v-if="score !== undefined" class="font-normal text-soft tabular-nums">{{ score }}</span>
  </span>
</template>
