<script setup lang="ts">
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { plain } from '@/frame/words'

const props = defineProps<{ holder: { kind: string; id: string; name: string | null; inside?: boolean | null; standing?: string | null } }>()
const PLACES: Record<string, string> = { person: 'people', app: 'apps', account: 'accounts' }
const to = computed(() => (PLACES[props.holder.kind] ? `/${PLACES[props.holder.kind]}/${props.holder.id}` : null))
const notes = computed(() => {
  const found = props.holder.kind === 'person' ? [] : [props.holder.kind]
  if (props.holder.inside === false) found.push('outside')
  if (props.holder.standing && props.holder.standing !== 'current') found.push(props.holder.standing)
  return found
})
</script>

<template>
  <span>
    <RouterLink v-if="to" :to="to" class="link">{{ holder.name }}</RouterLink>
    <template v-else>{{ holder.name }}</template>
    <span v-for="note in notes" :key="note" class="ml-1.5 rounded-sm bg-sunk px-1.5 py-px text-xs text-soft">{{ plain(note) }}</span>
  </span>
</template>
