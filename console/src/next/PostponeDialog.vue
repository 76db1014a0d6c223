<script setup lang="ts">
import { ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import type { NextAction } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'

const props = defineProps<{ action: NextAction | null }>()
const emit = defineEmits<{ close: []; done: [] }>()
const WEEKS = 2

const reason = ref('')
const lastDay = ref('')
const error = ref<unknown>(null)

watch(() => props.action, () => {
  reason.value = ''
  error.value = null
  lastDay.value = new Date(Date.now() + WEEKS * 7 * 86_400_000).toISOString().slice(0, 10)
})

async function postpone(): Promise<void> {
  try {
    await send('POST', '/next/postpone', { key: props.action?.key, reason: reason.value, last_day: lastDay.value })
    emit('done')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="action !== null" :title="gettext('Later, because …')" @close="$emit('close')">
    <p class="mt-2">{{ action?.title }}</p>
    <p class="mt-1 text-sm text-soft">{{ gettext('It is left out of your list until then. Nobody else’s list changes.') }}</p>
    <form class="mt-4 space-y-3" @submit.prevent="postpone">
      <label class="block font-semibold">{{ gettext('Because') }} <input v-model="reason" required minlength="3" class="field mt-1 font-normal" /></label>
      <DayField v-model="lastDay" end required :label="gettext('Until the end of')" class="max-w-64" />
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
        <button class="button-main">{{ gettext('Put it off') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
