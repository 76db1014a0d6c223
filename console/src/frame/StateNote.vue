<script setup lang="ts">
import { computed } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed } from '@/service/api'

const props = defineProps<{
  status: 'pending' | 'success' | 'error'
  error?: Error | null
  empty?: boolean
  emptyText?: string
}>()
defineEmits<{ retry: [] }>()

const remedy = computed(() => (props.error instanceof CallFailed ? props.error.problem.remedy : ''))
</script>

<template>
  <div v-if="status === 'pending'" class="space-y-2 py-4" role="status">
    <span class="sr-only">{{ gettext('Loading') }}</span>
    <div v-for="line in 4" :key="line" class="h-8 animate-pulse rounded-md bg-sunk motion-reduce:animate-none" />
  </div>
  <div v-else-if="status === 'error'" class="card my-4 border-rust p-5" role="alert">
    <p class="font-semibold text-rust">{{ error?.message }}</p>
    <p v-if="remedy" class="mt-1 text-soft">{{ remedy }}</p>
    <button class="button mt-3" @click="$emit('retry')">{{ gettext('Try again') }}</button>
  </div>
  <p v-else-if="empty" class="card my-4 border-dashed p-8 text-center text-soft">{{ emptyText }}</p>
</template>
