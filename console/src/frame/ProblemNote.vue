<script setup lang="ts">
import { computed } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed } from '@/service/api'

const props = defineProps<{ error: unknown }>()
const detail = computed(() => (props.error instanceof Error ? props.error.message : ''))
const breaches = computed(() => (props.error instanceof CallFailed ? (props.error.problem.breaches ?? []) : []))
const remedy = computed(() => (props.error instanceof CallFailed ? props.error.problem.remedy : ''))
</script>

<template>
  <p v-if="detail" role="alert" class="mt-3 rounded-md border border-rust bg-rust-wash p-3">
    <template v-if="breaches.length">
      <span v-for="breach in breaches" :key="breach.latch + breach.fact" class="block"><strong>{{ gettext('A latch holds: %{latch}.', { latch: breach.latch }) }}</strong> {{ gettext('Here %{fact}. %{remedy}', { fact: breach.fact, remedy: breach.remedy }) }}</span>
    </template>
    <template v-else><span class="font-semibold">{{ detail }}</span> {{ remedy }}</template>
  </p>
</template>
