<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { LargeChange } from '@/service/types'

defineProps<{ change: LargeChange }>()
defineEmits<{ stop: [] }>()
</script>

<template>
  <div class="rounded-md border border-line px-3 py-2" role="status">
    <p>{{ gettext('%{only_preview} %{grants} grants: %{done} done%{refused}.', { only_preview: change.only_preview ? gettext('Looking at') : gettext('Changing'), grants: change.grants, done: change.done, refused: change.refused ? gettext(', %{refused} refused', { refused: change.refused }) : '' }) }}</p>
    <progress class="mt-2 w-full accent-moss" :max="change.grants" :value="change.done" :aria-label="gettext('%{done} of %{grants} grants', { done: change.done, grants: change.grants })"></progress>
    <p v-if="!change.only_preview" class="mt-1 text-sm text-soft">{{ gettext('It goes on when you close this; Today shows how far it is. If you stop it, what was done stays.') }}</p>
    <button type="button" class="button mt-2" @click="$emit('stop')">{{ gettext('Stop') }}</button>
  </div>
</template>
