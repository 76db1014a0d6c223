<script setup lang="ts">
defineProps<{ state: string }>()
const WORDS: Record<string, string> = {
  carrying_out: 'being carried out',
  waiting: 'waiting for the system',
  by_hand: 'waits for a person',
  confirmed: 'confirmed gone',
  unproved: 'done, not all proved',
  undone: 'undone',
}
</script>

<template>
  <span
    class="rounded-sm px-2 py-0.5 text-sm font-semibold whitespace-nowrap"
    :class="{
      'bg-sky-wash text-link': state === 'confirmed',
      'bg-brass-wash text-brass': state === 'by_hand' || state === 'carrying_out' || state === 'unproved' || state === 'undone',
      'bg-rust-wash text-rust': state === 'waiting',
    }"
    data-test="state"
  >
    {{ WORDS[state] ?? state }}
  </span>
</template>
