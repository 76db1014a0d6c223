<script setup lang="ts">
import { ref } from 'vue'

import { CallFailed } from '@/service/api'
import { prove, waiting } from './proof'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const password = ref('')
const code = ref('')
const needsCode = ref(false)
const error = ref<unknown>(null)

function finish(proved: boolean): void {
  waiting.value?.done(proved)
  password.value = code.value = ''
  needsCode.value = false
  error.value = null
}

async function give(): Promise<void> {
  error.value = null
  try {
    await prove(password.value, code.value)
    finish(true)
  } catch (failed) {
    needsCode.value ||= failed instanceof CallFailed && Boolean(failed.problem.type?.endsWith(':factor-needed'))
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="waiting !== null" title="Prove that it is you" @close="finish(false)">
    <form class="mt-3 space-y-4" @submit.prevent="give">
      <p>{{ waiting?.why }} Give your password again; it counts for ten minutes.</p>
      <label class="block font-semibold">Password <input v-model="password" type="password" autocomplete="current-password" required class="field mt-1 font-normal" data-test="proof" /></label>
      <label v-if="needsCode" class="block font-semibold">Code of your second factor <input v-model="code" inputmode="numeric" autocomplete="one-time-code" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="finish(false)">Cancel</button>
        <button class="button-main">Confirm</button>
      </div>
    </form>
  </ModalBox>
</template>
