<script setup lang="ts">
import { reactive, ref, watch } from 'vue'

import { send } from '@/service/api'
import { ends } from '@/frame/words'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ grant: { id: string; account: { name: string }; level: string | null; until: string | null; last_day?: string | null } | null }>()
const emit = defineEmits<{ close: []; done: [said: string] }>()
const form = reactive({ last_day: '', reason: '' })
const error = ref<unknown>(null)
watch(() => props.grant, (grant) => {
  if (grant) Object.assign(form, { last_day: '', reason: '' })
  error.value = null
})

async function ask(): Promise<void> {
  error.value = null
  try {
    await send('POST', '/requests', { extends: props.grant?.id, last_day: form.last_day || null, reason: form.reason })
    emit('done', 'Asked. You will be told what comes of it; until then it ends as it says.')
    emit('close')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="grant !== null" title="Ask for more time" @close="emit('close')">
    <form v-if="grant" class="mt-3 space-y-4" @submit.prevent="ask">
      <p>“{{ grant.level }}” on {{ grant.account.name }}, {{ ends(grant) }}. The same access goes on, if whoever answers for it says yes.</p>
      <label class="block font-semibold">Until which day <span class="font-normal text-soft">(empty: let them say)</span><input v-model="form.last_day" type="date" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">Why <input v-model="form.reason" required minlength="3" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="emit('close')">Cancel</button><button class="button-main">Ask for more time</button></div>
    </form>
  </ModalBox>
</template>
