<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import ProblemNote from '@/frame/ProblemNote.vue'

const token = window.location.hash.slice(1)
const password = ref('')
const isDone = ref(false)
const error = ref<unknown>(null)

async function keep(): Promise<void> {
  error.value = null
  try {
    await send('POST', '/password/new', { token, password: password.value })
    isDone.value = true
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <div class="mx-auto max-w-xl py-10">
    <h1 class="mb-4 text-3xl">{{ gettext('A new password') }}</h1>
    <p v-if="isDone" class="card p-6" role="status">{{ gettext('It is changed, and everything that was open is ended.') }} <RouterLink to="/sign-in" class="link">{{ gettext('Sign in') }}</RouterLink></p>
    <form v-else class="card space-y-4 p-6" @submit.prevent="keep">
      <label class="block font-semibold">{{ gettext('New password') }} <input v-model="password" type="password" autocomplete="new-password" required minlength="12" class="field mt-1 font-normal" /><span class="font-normal text-soft">{{ gettext('12 characters or more; a few words do well.') }}</span></label>
      <ProblemNote :error="error" />
      <button class="button-main w-full">{{ gettext('Change it') }}</button>
    </form>
  </div>
</template>
