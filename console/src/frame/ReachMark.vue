<script setup lang="ts">
import { computed } from 'vue'

import { REACH_PLAIN, REACH_WORDS } from './words'

const props = defineProps<{ reach: number }>()
const word = computed(() => REACH_WORDS[props.reach] ?? '')
const sentence = computed(() => REACH_PLAIN[props.reach] ?? '')
</script>

<template>
  <span class="inline-flex items-center gap-2 whitespace-nowrap" :title="sentence">
    <span aria-hidden="true" class="inline-flex items-end gap-px">
      <span
        v-for="notch in 4"
        :key="notch"
        class="w-1.5 rounded-sm"
        :class="[
          ['h-1.5', 'h-2.5', 'h-3.5', 'h-4.5'][notch - 1],
          notch <= reach ? (reach >= 3 ? 'bg-rust' : 'bg-moss') : 'bg-line',
        ]"
      />
    </span>
    {{ word }}
  </span>
</template>
