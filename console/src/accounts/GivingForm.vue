<script setup lang="ts">
/** How access to an account is given: in an emergency, and what is needed to accept. */
import { ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import type { AccountPage } from '@/service/types'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ account: AccountPage }>()
const emit = defineEmits<{ done: [] }>()
const emergency = ref<number | ''>('')
const needs = ref<string[]>([])
const failed = ref<unknown>(null)
const isSaving = ref(false)
watch(
  () => props.account,
  (found) => {
    emergency.value = found.emergency_hours ?? ''
    needs.value = [...found.prerequisites]
  },
  { immediate: true },
)

async function save(): Promise<void> {
  failed.value = null
  isSaving.value = true
  try {
    const body = { emergency_hours: emergency.value || null, prerequisites: needs.value }
    await send('PUT', `/accounts/${props.account.id}/giving`, body, { 'If-Match': `"${props.account.version}"` })
  } catch (problem) {
    failed.value = problem
  } finally {
    isSaving.value = false
  }
  emit('done')
}
</script>

<template>
  <form class="card space-y-3 p-5" @submit.prevent="save">
    <h2 class="text-xl">{{ gettext('How access is given') }}</h2>
    <label class="block">{{ gettext('In an emergency it opens for') }} <input v-model="emergency" type="number" min="1" max="168" class="field mx-1 inline w-20" :aria-label="gettext('Hours')" /> {{ gettext('hours') }} <span class="text-soft">{{ gettext('(empty: to nobody)') }}</span></label>
    <label class="block"><input v-model="needs" type="checkbox" value="confirmed_address" class="accent-moss" /> {{ gettext('To accept, a confirmed address is needed') }}</label>
    <label class="block"><input v-model="needs" type="checkbox" value="second_factor" class="accent-moss" /> {{ gettext('To accept, a second factor is needed') }}</label>
    <ProblemNote :error="failed" />
    <button class="button" :disabled="isSaving">{{ isSaving ? gettext('Saving …') : gettext('Save') }}</button>
  </form>
</template>
