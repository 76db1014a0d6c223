<script setup lang="ts">
import type { LargeChange } from '@/service/types'

defineProps<{ change: LargeChange }>()
defineEmits<{ stop: [] }>()
</script>

<template>
  <div class="rounded-md border border-line px-3 py-2" role="status">
    <p>{{ change.only_preview ? 'Looking at' : 'Changing' }} {{ change.grants }} grants: {{ change.done }} done{{ change.refused ? `, ${change.refused} refused` : '' }}.</p>
    <progress class="mt-2 w-full accent-moss" :max="change.grants" :value="change.done" :aria-label="`${change.done} of ${change.grants} grants`"></progress>
    <p v-if="!change.only_preview" class="mt-1 text-sm text-soft">It goes on when you close this; the journal says when it is done. If you stop it, what was done stays.</p>
    <button type="button" class="button mt-2" @click="$emit('stop')">Stop</button>
  </div>
</template>
