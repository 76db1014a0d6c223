<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { Breach } from '@/service/types'

defineProps<{ breaches: Breach[] }>()
</script>

<template>
  <ul v-if="breaches.length" class="space-y-1.5">
    <li
      v-for="breach in breaches"
      :key="breach.latch + breach.fact"
      class="rounded-md border-l-4 px-3 py-2"
      :class="breach.mode === 'hold' ? 'border-rust bg-rust-wash' : 'border-brass bg-brass-wash'"
    >
      <strong>{{ breach.mode === 'hold' ? gettext('Held') : gettext('Warning') }}: {{ breach.latch }}.</strong>
      {{ gettext('Here %{fact}.', { fact: breach.fact }) }} <template v-if="breach.mode === 'hold'">{{ breach.remedy }}</template>
    </li>
  </ul>
</template>
