<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import ProblemNote from '@/frame/ProblemNote.vue'

const address = ref('')
const isSent = ref(false)
const error = ref<unknown>(null)

async function ask(): Promise<void> {
  error.value = null
  try {
    await send('POST', '/password/forgotten', { address: address.value })
    isSent.value = true
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <div class="mx-auto max-w-xl py-10">
    <h1 class="mb-4 text-3xl">{{ gettext('Forgotten your password?') }}</h1>
    <p v-if="isSent" class="card p-6" role="status">{{ gettext('If somebody signs in with %{address}, a link has been sent there. It works once, for an hour.', { address }) }} <RouterLink to="/sign-in" class="link">{{ gettext('Back to signing in') }}</RouterLink></p>
    <form v-else class="card space-y-4 p-6" @submit.prevent="ask">
      <label class="block font-semibold">{{ gettext('The address that you sign in with') }} <input v-model="address" type="email" autocomplete="username" required class="field mt-1 font-normal" /></label>
      <ProblemNote :error="error" />
      <button class="button-main w-full">{{ gettext('Send me a link') }}</button>
    </form>
  </div>
</template>
