<script setup lang="ts">
import { ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import type { ExposureRow } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'

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
  <ModalBox :open="exposures.length > 0" :title="exposures.length > 1 ? gettext('Judge %{exposures} exposures', { exposures: exposures.length }) : gettext('Is this meant to be open?')" @close="$emit('close')">
    <p v-for="row in exposures.slice(0, 6)" :key="row.id" class="mt-2">{{ row.sentence }}</p>
    <p v-if="exposures.length > 6" class="mt-2 text-soft">{{ gettext('And %{exposures} more.', { exposures: exposures.length - 6 }) }}</p>
    <form class="mt-4 space-y-3" @submit.prevent="judge">
      <fieldset class="space-y-1">
        <legend class="font-semibold">{{ gettext('It is') }}</legend>
        <label class="flex items-center gap-2"><input v-model="judgement" type="radio" value="intended" class="accent-moss" /> {{ gettext('intended') }}</label>
        <label class="flex items-center gap-2"><input v-model="judgement" type="radio" value="to_close" class="accent-moss" /> {{ gettext('to be closed') }}</label>
        <label class="flex items-center gap-2"><input v-model="judgement" type="radio" value="unjudged" class="accent-moss" /> {{ gettext('not judged after all') }}</label>
      </fieldset>
      <label class="block font-semibold">{{ gettext('Why') }} <textarea v-model="reason" :required="judgement === 'intended'" rows="2" class="field mt-1 font-normal" /></label>
      <DayField v-if="judgement === 'intended'" v-model="lastDay" end :label="gettext('Last day of it')" note="empty: no end" class="max-w-64" />
      <p class="text-sm text-soft">{{ gettext('What is intended comes back to be judged when more people get in, when the account becomes more sensitive, and after its last day.') }}</p>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
        <button class="button-main">{{ gettext('Save') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
