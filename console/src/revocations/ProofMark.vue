<script setup lang="ts">
import { computed } from 'vue'

import { gettext } from '@/frame/language'
import type { Proof } from '@/service/types'
import { PROOFS } from '@/frame/words'

const props = defineProps<{ proof: Proof; by?: string }>()
const known = computed(() => PROOFS[props.proof])
</script>

<template>
  <span
    class="inline-flex items-baseline gap-1.5 rounded-sm px-2 py-0.5 text-sm font-semibold"
    :class="{
      'bg-sky-wash text-link': proof === 'confirmed',
      'bg-brass-wash text-brass': proof === 'stated' || proof === 'unproved',
      'bg-rust-wash text-rust': proof === 'contradicted',
    }"
    :title="known.plain"
  >
    <span aria-hidden="true">{{ known.mark }}</span>
    <span>{{ proof }}<template v-if="by && proof !== 'unproved'">{{ ` ${gettext('by %{by}', { by })}` }}</template></span>
  </span>
</template>
