<script setup lang="ts">
import { ref } from 'vue'

import { gettext, ngettext } from '@/frame/language'
import { me } from '@/identity/me'
import { send } from '@/service/api'
import type { LargeChange } from '@/service/types'
import ProblemNote from '@/frame/ProblemNote.vue'

import { KINDS, told } from './largeChange'

/** A change of many grants that was left, found again. */
const props = defineProps<{ change: LargeChange }>()
const emit = defineEmits<{ stopped: [] }>()
const failed = ref<unknown>(null)
const kind = Object.fromEntries(KINDS)[props.change.kind] ?? props.change.kind

async function stop(): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/changes/large/${props.change.id}/stop`, {})
  } catch (problem) {
    failed.value = problem
  }
  emit('stopped')
}
</script>

<template>
  <div>
    <p class="font-medium">{{ gettext('%{kind}: %{count}, asked by %{by}', { kind, count: ngettext('%{n} grant', '%{n} grants', change.grants), by: change.asked_by }) }}</p>
    <p v-if="change.ended_at" class="text-sm text-soft">{{ told(change, false) }}</p>
    <template v-else>
      <progress class="w-full accent-moss" :max="change.grants" :value="change.done" :aria-label="gettext('%{done} of %{grants} grants', { done: change.done, grants: change.grants })" />
      <p class="text-sm text-soft">{{ gettext('%{done} of %{grants} grants', { done: change.done, grants: change.grants }) }} <button v-if="!me?.auditor" type="button" class="link" @click="stop">{{ gettext('Stop') }}</button></p>
    </template>
    <ProblemNote :error="failed" />
  </div>
</template>
