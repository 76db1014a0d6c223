<script setup lang="ts">
import { computed } from 'vue'

import { CallFailed } from '@/data/api'

const props = defineProps<{ error: unknown }>()
const detail = computed(() => (props.error instanceof Error ? props.error.message : ''))
const remedy = computed(() => (props.error instanceof CallFailed ? props.error.problem.remedy : ''))
</script>

<template>
  <p v-if="detail" role="alert" class="mt-3 rounded-md border border-rust bg-rust-wash p-3">
    <span class="font-semibold">{{ detail }}</span> {{ remedy }}
  </p>
</template>
