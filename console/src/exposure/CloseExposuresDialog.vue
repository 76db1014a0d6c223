<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { CallFailed, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { ClosingPreview, ExposureRow } from '@/service/types'

import ExposureChangeList from './ExposureChangeList.vue'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ exposures: ExposureRow[] }>()
defineEmits<{ close: [] }>()
const router = useRouter()

const preview = ref<ClosingPreview | null>(null)
const reason = ref('')
const error = ref<unknown>(null)

async function look(): Promise<void> {
  preview.value = null
  try {
    preview.value = await send('POST', '/exposures/close/preview', { exposures: props.exposures.map((row) => row.id) })
  } catch (failed) {
    error.value = failed
  }
}

async function start(): Promise<void> {
  error.value = null
  try {
    const body = { exposures: props.exposures.map((row) => row.id), reason: reason.value, fingerprint: preview.value?.fingerprint ?? '' }
    const found = await proving(() => send('POST', '/exposures/close', body))
    await router.push(`/revocations/${found.id}`)
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) await look()
    error.value = failed
  }
}

watch(
  () => props.exposures,
  (exposures) => {
    reason.value = ''
    error.value = null
    if (exposures.length) void look()
  },
)
</script>

<template>
  <ModalBox :open="exposures.length > 0" :title="preview?.title ?? gettext('What closing this would do')" @close="$emit('close')">
    <StateNote v-if="!preview && !error" status="pending" />
    <form v-else class="mt-3 space-y-4" @submit.prevent="start">
      <template v-if="preview">
        <ExposureChangeList :changes="preview.exposures" />
        <div>
          <h3 class="font-sans font-semibold">{{ gettext('Steps') }}</h3>
          <ol class="list-decimal pl-5"><li v-for="step in preview.steps" :key="step.sentence">{{ step.sentence }}</li></ol>
        </div>
        <p class="text-sm text-soft">{{ gettext('A rule that was taken away is not put back by undoing: set it again in the system.') }}</p>
        <label class="block font-semibold">{{ gettext('Why') }} <textarea v-model="reason" required minlength="3" rows="2" class="field mt-1 font-normal" /></label>
      </template>
      <ProblemNote :error="error" />
      <div class="flex flex-wrap justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
        <button v-if="preview" class="button-end" :disabled="reason.trim().length < 3" data-test="close-rules">{{ gettext('Take %{count} away', { count: ngettext('%{n} rule', '%{n} rules', preview.rules.length) }) }}</button>
      </div>
    </form>
  </ModalBox>
</template>
