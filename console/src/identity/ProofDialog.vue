<script setup lang="ts">
import { ref } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed } from '@/service/api'
import { me } from './me'
import { hasPasskeys } from './passkeys'
import { prove, proveByPasskey, waiting } from './proof'

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

async function give(call = () => prove(password.value, code.value)): Promise<void> {
  error.value = null
  try {
    await call()
    finish(true)
  } catch (failed) {
    needsCode.value ||= failed instanceof CallFailed && Boolean(failed.problem.type?.endsWith(':factor-needed'))
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="waiting !== null" :title="gettext('Prove that it is you')" @close="finish(false)">
    <div v-if="me?.provider" class="mt-3 space-y-4">
      <p>{{ gettext('%{why} Sign in once more with %{provider}; it counts for ten minutes.', { why: waiting?.why, provider: me.provider.name }) }}</p>
      <div class="flex flex-wrap justify-end gap-2">
        <button type="button" class="button" @click="finish(false)">{{ gettext('Cancel') }}</button>
        <a :href="`/oidc/start/${me.provider.id}?prove=1`" target="_blank" rel="opener" class="button">{{ gettext('Sign in with %{provider}', { provider: me.provider.name }) }}<span class="sr-only">{{ ` ${gettext('(opens in a new tab)')}` }}</span></a>
        <button type="button" class="button-main" @click="finish(true)">{{ gettext('I have done that') }}</button>
      </div>
    </div>
    <form v-else class="mt-3 space-y-4" @submit.prevent="give()">
      <p>{{ gettext('%{why} Give your password again; it counts for ten minutes.', { why: waiting?.why }) }}</p>
      <label class="block font-semibold">{{ gettext('Password') }} <input v-model="password" type="password" autocomplete="current-password" required class="field mt-1 font-normal" data-test="proof" /></label>
      <label v-if="needsCode" class="block font-semibold">{{ gettext('Code of your second factor') }} <input v-model="code" inputmode="numeric" autocomplete="one-time-code" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="finish(false)">{{ gettext('Cancel') }}</button>
        <button v-if="hasPasskeys && me?.has_passkey" type="button" class="button" @click="give(proveByPasskey)">{{ gettext('Use a passkey') }}</button>
        <button class="button-main">{{ gettext('Confirm') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
