<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { CallFailed, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { Preview } from '@/service/types'
import { endingWords } from '@/frame/words'

import ModalBox from '@/frame/ModalBox.vue'
import PreviewBox from './PreviewBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ open: boolean; grants?: string[]; sessions?: string[] }>()
const emit = defineEmits<{ close: []; started: [] }>()
const router = useRouter()

const preview = ref<Preview | null>(null)
const reason = ref('')
const error = ref<unknown>(null)
const isBusy = ref(false)

const wish = computed(() => ({ grants: props.grants ?? [], sessions: props.sessions ?? [] }))
const doing = computed(() => {
  const rights = preview.value?.changes.reduce((sum, change) => sum + change.ends.length, 0) ?? 0
  return endingWords(rights, preview.value?.sessions.length ?? 0)
})

async function look(): Promise<void> {
  error.value = null
  preview.value = null
  try {
    preview.value = await send('POST', '/revocations/preview', wish.value)
  } catch (failed) {
    error.value = failed
  }
}

async function start(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    const body = { ...wish.value, reason: reason.value, fingerprint: preview.value?.fingerprint ?? '' }
    const found = await proving(() => send('POST', '/revocations', body))
    emit('started')
    await router.push(`/revocations/${found.id}`)
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) await look()
    error.value = failed
  } finally {
    isBusy.value = false
  }
}

watch(
  () => props.open,
  (open) => {
    reason.value = ''
    if (open) void look()
  },
  { immediate: true },
)
</script>

<template>
  <ModalBox :open="open" :title="preview?.title ?? gettext('What this would do')" @close="$emit('close')">
    <StateNote v-if="!preview && !error" status="pending" />
    <form v-else @submit.prevent="start">
      <PreviewBox v-if="preview" :preview="preview" />
      <label v-if="preview" class="mt-5 block font-semibold">
        {{ gettext('Why') }}
        <textarea v-model="reason" required minlength="3" rows="2" class="field mt-1 font-normal" :placeholder="gettext('The season is over.')" />
      </label>
      <ProblemNote :error="error" />
      <div class="mt-4 flex flex-wrap justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
        <button v-if="preview" class="button-end" :disabled="isBusy || reason.trim().length < 3" data-test="end">{{ doing }}</button>
      </div>
    </form>
  </ModalBox>
</template>
