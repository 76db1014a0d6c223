<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { keepMe } from './me'
import type { InvitationToYou } from '@/service/types'
import { moment, plain } from '@/frame/words'
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
    <h1 class="mb-4 text-3xl">{{ gettext('You are invited') }}</h1>
    <form v-if="found" class="card space-y-4 p-6" @submit.prevent="accept">
      <p>{{ gettext('%{sent_by} invites you, %{found}, to sign in to Open Latch at', { sent_by: found.sent_by, found: found.name }) }} <strong>{{ found.organisation }}</strong> {{ gettext('as %{role}. The link works until %{runs_out_at}.', { role: plain(found.role), runs_out_at: moment(found.runs_out_at) }) }}</p>
      <p>{{ gettext('You will sign in with') }} <strong>{{ found.address }}</strong> {{ gettext('and a password:') }}</p>
      <label class="block font-semibold">{{ gettext('Password') }} <input v-model="password" type="password" autocomplete="new-password" required minlength="12" class="field mt-1 font-normal" /><span class="font-normal text-soft">{{ gettext('12 characters or more; a few words do well.') }}</span></label>
      <ProblemNote :error="error" />
      <button class="button-main w-full">{{ gettext('Sign in from now on') }}</button>
    </form>
    <ProblemNote v-else :error="error" />
  </div>
</template>
