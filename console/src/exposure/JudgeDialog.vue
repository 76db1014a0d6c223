<script setup lang="ts">
import { ref, watch } from 'vue'

import { send } from '@/service/api'
import type { ExposureRow } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ exposures: ExposureRow[] }>()
const emit = defineEmits<{ close: []; done: [] }>()

const judgement = ref<ExposureRow['judgement']>('intended')
const reason = ref('')
const lastDay = ref('')
const error = ref<unknown>(null)

watch(
  () => props.exposures,
  () => {
    reason.value = lastDay.value = ''
    judgement.value = 'intended'
    error.value = null
  },
)

async function judge(): Promise<void> {
  try {
    const body = { exposures: props.exposures.map((row) => row.id), judgement: judgement.value, reason: reason.value, last_day: (judgement.value === 'intended' && lastDay.value) || null }
    await send('POST', '/exposures/judge', body)
    emit('done')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="exposures.length > 0" :title="exposures.length > 1 ? `Judge ${exposures.length} exposures` : 'Is this meant to be open?'" @close="$emit('close')">
    <p v-for="row in exposures.slice(0, 6)" :key="row.id" class="mt-2">{{ row.sentence }}</p>
    <p v-if="exposures.length > 6" class="mt-2 text-soft">And {{ exposures.length - 6 }} more.</p>
    <form class="mt-4 space-y-3" @submit.prevent="judge">
      <fieldset class="space-y-1">
        <legend class="font-semibold">It is</legend>
        <label class="flex items-center gap-2"><input v-model="judgement" type="radio" value="intended" class="accent-moss" /> intended</label>
        <label class="flex items-center gap-2"><input v-model="judgement" type="radio" value="to_close" class="accent-moss" /> to be closed</label>
        <label class="flex items-center gap-2"><input v-model="judgement" type="radio" value="unjudged" class="accent-moss" /> not judged after all</label>
      </fieldset>
      <label class="block font-semibold">Why <textarea v-model="reason" :required="judgement === 'intended'" rows="2" class="field mt-1 font-normal" /></label>
      <label v-if="judgement === 'intended'" class="block font-semibold">Last day of it <span class="font-normal text-soft">(empty: no end)</span> <input v-model="lastDay" type="date" class="field mt-1 max-w-48 font-normal" /></label>
      <p class="text-sm text-soft">What is intended comes back to be judged when more people get in, when the account becomes more sensitive, and after its last day.</p>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">Cancel</button>
        <button class="button-main">Save</button>
      </div>
    </form>
  </ModalBox>
</template>
