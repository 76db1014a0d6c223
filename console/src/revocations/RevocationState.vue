<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { Proof } from '@/service/types'
import { PROOFS } from '@/frame/words'

defineProps<{ state: string }>()
const WORDS: Record<string, string> = {
  carrying_out: gettext('being carried out'),
  waiting: gettext('waiting for the system'),
  by_hand: gettext('waits for a person'),
  done: gettext('done'),
  confirmed: gettext('confirmed gone'),
  stated: gettext('stated, not confirmed'),
  unproved: gettext('unproved'),
  contradicted: gettext('contradicted'),
  undone: gettext('undone'),
}
</script>

<template>
  <span
    class="rounded-sm px-2 py-0.5 text-sm font-semibold whitespace-nowrap"
    :class="{
      'bg-sky-wash text-link': state === 'confirmed',
      'bg-brass-wash text-brass': state === 'by_hand' || state === 'carrying_out' || state === 'stated' || state === 'unproved' || state === 'undone' || state === 'done',
      'bg-rust-wash text-rust': state === 'waiting' || state === 'contradicted',
    }"
    data-test="state"
  >
    <span v-if="state in PROOFS" aria-hidden="true">{{ PROOFS[state as Proof].mark }}&nbsp;</span>{{ WORDS[state] ?? state }}
  </span>
</template>
