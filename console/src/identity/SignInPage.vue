<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { CallFailed } from '@/service/api'
import { signIn } from './me'
import ProblemNote from '@/frame/ProblemNote.vue'

const route = useRoute()
const router = useRouter()
const address = ref('')
const password = ref('')
const code = ref('')
const needsCode = ref(false)
const organisation = ref('')
const needsOrganisation = ref(false)
const error = ref<unknown>(null)
const isBusy = ref(false)

async function enter(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await signIn(address.value, password.value, code.value, organisation.value)
    const then = String(route.query.then ?? '/')
    // Only places of our own: a link must not lead away from here.
    await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/')
  } catch (failed) {
    needsCode.value ||= failed instanceof CallFailed && Boolean(failed.problem.type?.endsWith(':factor-needed'))
    needsOrganisation.value ||= failed instanceof CallFailed && Boolean(failed.problem.type?.endsWith(':organisation-needed'))
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <div class="mx-auto grid min-h-screen max-w-4xl content-center items-center gap-10 py-10 md:grid-cols-2">
    <div>
      <img src="/mark.svg" alt="" class="size-16" />
      <h1 class="mt-5 text-5xl font-bold">Open Latch</h1>
      <p class="mt-3 text-lg text-soft">Who and what can reach each shared account: see it, review it, end it, and know that it is gone.</p>
    </div>
    <form class="card space-y-4 p-6" @submit.prevent="enter">
      <h2 class="text-xl">Sign in</h2>
      <label class="block font-semibold">
        Address
        <input v-model="address" type="email" autocomplete="username" required class="field mt-1 font-normal" />
      </label>
      <label class="block font-semibold">
        Password
        <input v-model="password" type="password" autocomplete="current-password" required class="field mt-1 font-normal" />
      </label>
      <label v-if="needsCode" class="block font-semibold">
        Code of your second factor
        <input v-model="code" inputmode="numeric" autocomplete="one-time-code" required class="field mt-1 font-normal" />
      </label>
      <label v-if="needsOrganisation" class="block font-semibold">
        Organisation
        <input v-model="organisation" autocomplete="organization" required class="field mt-1 font-normal" />
      </label>
      <ProblemNote :error="error" />
      <button class="button-main w-full" :disabled="isBusy">Sign in</button>
      <p class="text-center"><RouterLink to="/forgotten" class="link">Forgotten your password?</RouterLink></p>
    </form>
  </div>
</template>
