<script setup lang="ts">
import { ref } from 'vue'
import { useRoute } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { proving } from './proof'
import type { DeviceAsked } from '@/service/types'
import { moment } from '@/frame/words'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const code = ref(String(useRoute().query.code ?? ''))
const asked = ref<DeviceAsked | null>(null)
const said = ref('')
const failed = ref<unknown>(null)
const isBusy = ref(false)

async function run(call: () => Promise<void>): Promise<void> {
  isBusy.value = true
  failed.value = null
  try {
    await proving(call)
  } catch (problem) {
    failed.value = problem
  } finally {
    isBusy.value = false
  }
}

const look = () => run(async () => {
  said.value = ''
  asked.value = await send('POST', '/devices/look', { user_code: code.value })
})
const answer = (allows: boolean) => run(async () => {
  await send('POST', '/devices/answer', { user_code: code.value, allows })
  said.value = allows ? gettext('It is let in, and goes on by itself. Its token is among yours, on My sign-in.') : gettext('It is refused. If you did not ask for it, tell an administrator.')
  asked.value = null
  code.value = ''
})
</script>

<template>
  <PageHead :title="gettext('Let a program in')" :about="gettext('A program that has no browser of its own shows a code, and acts as you once you let it in.')" />
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <form v-if="!asked" class="card max-w-xl space-y-3 p-5" @submit.prevent="look">
    <label class="block font-semibold">{{ gettext('The code that it shows') }} <input v-model="code" required autocomplete="off" spellcheck="false" class="field mt-1 max-w-60 font-mono text-lg font-normal uppercase" :placeholder="gettext('BCDF-GHJK')" /></label>
    <p class="text-soft">{{ gettext('Give only a code that is in front of you. Nobody from your organisation asks you for one.') }}</p>
    <ProblemNote :error="failed" />
    <button class="button-main" :disabled="isBusy">{{ gettext('Look') }}</button>
  </form>
  <section v-else class="card max-w-xl space-y-3 p-5" aria-labelledby="asked">
    <h2 id="asked" class="text-xl">{{ asked.program }}</h2>
    <p>{{ gettext('That is what it calls itself. It asked from %{origin}, with the code', { origin: asked.origin }) }} <code class="font-mono">{{ code.toUpperCase() }}</code>{{ gettext(', and waits until %{expires_at}.', { expires_at: moment(asked.expires_at) }) }}</p>
    <p class="font-semibold">{{ asked.scope === 'read' ? gettext('It would see what you see.') : gettext('It could do whatever you can do.') }}</p>
    <p class="text-soft">{{ gettext('You can end it on') }} <RouterLink to="/me" class="link">{{ gettext('My sign-in') }}</RouterLink> {{ gettext('at any time; it ends by itself after 90 days.') }}</p>
    <ProblemNote :error="failed" />
    <div class="flex flex-wrap gap-2">
      <button class="button-main" :disabled="isBusy" @click="answer(true)">{{ gettext('Let it in') }}</button>
      <button class="button" :disabled="isBusy" @click="answer(false)">{{ gettext('Refuse') }}</button>
      <button class="link" @click="asked = null">{{ gettext('Another code') }}</button>
    </div>
  </section>
</template>
