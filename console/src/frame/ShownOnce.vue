<script setup lang="ts">
import { gettext } from '@/frame/language'

/** Something secret that is shown only now: each line with what it is. */
defineProps<{ title: string; lines: [string, string][] }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <div role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">
    <p class="font-semibold">{{ title }}</p>
    <p v-for="[label, value] in lines" :key="label" class="break-all">{{ label }} <code class="font-mono">{{ value }}</code></p>
    <button class="link" @click="$emit('close')">{{ gettext('I have copied it') }}</button>
  </div>
</template>
