<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { send } from '@/service/api'
import { keepMe } from './me'
import type { InvitationToYou } from '@/service/types'
import { moment } from '@/frame/words'
import ProblemNote from '@/frame/ProblemNote.vue'

const router = useRouter()
const token = window.location.hash.slice(1)
const found = ref<InvitationToYou | null>(null)
const password = ref('')
const error = ref<unknown>(null)

onMounted(async () => {
  try {
    found.value = await send('POST', '/link/invitation/read', { token })
  } catch (failed) {
    error.value = failed
  }
})

async function accept(): Promise<void> {
  error.value = null
  try {
    keepMe(await send('POST', '/link/invitation/accept', { token, password: password.value }))
    await router.push('/')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <div class="mx-auto max-w-xl py-10">
    <h1 class="mb-4 text-3xl">You are invited</h1>
    <form v-if="found" class="card space-y-4 p-6" @submit.prevent="accept">
      <p>{{ found.sent_by }} invites you, {{ found.name }}, to sign in to Open Latch at <strong>{{ found.organisation }}</strong> as {{ found.role }}. The link works until {{ moment(found.runs_out_at) }}.</p>
      <p>You will sign in with <strong>{{ found.address }}</strong> and a password:</p>
      <label class="block font-semibold">Password <input v-model="password" type="password" autocomplete="new-password" required minlength="12" class="field mt-1 font-normal" /><span class="font-normal text-soft">12 characters or more; a few words do well.</span></label>
      <ProblemNote :error="error" />
      <button class="button-main w-full">Sign in from now on</button>
    </form>
    <ProblemNote v-else :error="error" />
  </div>
</template>
