<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { askWhoIam, keepMe } from '@/identity/me'
import type { OpenOffer } from '@/service/types'
import OfferCard from './OfferCard.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const router = useRouter()
// The token comes after the #, which is never sent to a server by following a link. While somebody signs in it is kept
// in this tab alone.
const KEPT = 'openlatch offer'
const token = window.location.hash.slice(1) || (sessionStorage.getItem(KEPT) ?? '')
sessionStorage.setItem(KEPT, token)
const offer = ref<OpenOffer | null>(null)
const password = ref('')
const isShown = ref(false)
const words = ref('')
const error = ref<unknown>(null)
const done = ref('')
const isBusy = ref(false)

onMounted(async () => {
  try {
    await askWhoIam()
    offer.value = await send('POST', '/link/read', { token })
  } catch (failed) {
    error.value = failed
  }
})

async function answer(how: 'accept' | 'decline', unknown = false): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    const body = { token, version: offer.value?.version ?? 0, password: password.value, words: words.value, unknown_sender: unknown }
    if (how === 'accept') {
      keepMe(await send('POST', '/link/accept', body))
      await router.push(`/mine?accepted=${offer.value?.account.id ?? ''}`)
    } else {
      await send('POST', '/link/decline', body)
      done.value = unknown ? gettext('Thank you for saying so. The administrators have been told, and nothing was accepted.') : gettext('You have declined. Whoever sent it has been told.')
    }
  } catch (failed) {
    error.value = failed
  } finally {
    isBusy.value = false
  }
}

function suggest(): void {
  password.value = offer.value?.suggested_password ?? ''
  isShown.value = true
}
</script>

<template>
  <div class="mx-auto max-w-2xl py-8">
    <p class="mb-4 flex items-center gap-2 font-display text-lg font-bold"><img src="/mark.svg" alt="" class="size-7" /> {{ gettext('Open Latch') }}</p>
    <h1 class="mb-4 text-3xl">{{ gettext('An offer to you') }}</h1>
    <StateNote v-if="!offer && !error" status="pending" />
    <div v-if="done" class="card p-6" role="status"><p>{{ done }}</p></div>
    <div v-else-if="offer" class="card space-y-5 p-6">
      <OfferCard :offer="offer" />
      <p v-for="lack in offer.lacking" :key="lack" class="rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">{{ gettext('Before you can accept: %{lack}.', { lack: lack.toLowerCase() }) }}</p>
      <form class="space-y-4 border-t border-line pt-4" @submit.prevent="answer('accept')">
        <p v-if="offer.signed_in">{{ gettext('You are signed in as %{person}.', { person: offer.person.name }) }}</p>
        <p v-else-if="offer.has_sign_in">{{ gettext('You have a sign-in already.') }} <RouterLink class="link" :to="{ name: 'sign-in', query: { then: '/offer' } }">{{ gettext('Sign in') }}</RouterLink>{{ gettext(', and this page opens again.') }}</p>
        <div v-else>
          <label class="block font-semibold">
            {{ gettext('Choose a password') }}
            <input v-model="password" :type="isShown ? 'text' : 'password'" autocomplete="new-password" minlength="12" required class="field mt-1 font-normal" />
          </label>
          <p class="mt-1 text-soft">{{ gettext('At least 12 characters; a few words do well.') }} <button type="button" class="link" @click="suggest">{{ gettext('Suggest a strong one') }}</button> <label class="ml-2"><input v-model="isShown" type="checkbox" class="accent-moss" /> {{ gettext('show it') }}</label></p>
        </div>
        <ProblemNote :error="error" />
        <button v-if="offer.signed_in || !offer.has_sign_in" class="button-main w-full" :disabled="isBusy" data-test="accept">{{ offer.has_sign_in ? gettext('Accept') : gettext('Accept and make my sign-in') }}</button>
      </form>
      <details class="border-t border-line pt-3">
        <summary class="cursor-pointer text-soft hover:text-ink">{{ gettext('Decline') }}</summary>
        <label class="mt-3 block font-semibold">{{ gettext('Reason') }} <span class="font-normal text-soft">{{ gettext('(if you like)') }}</span><input v-model="words" class="field mt-1 font-normal" /></label>
        <div class="mt-3 flex flex-wrap gap-2">
          <button class="button" :disabled="isBusy" @click="answer('decline')">{{ gettext('Decline') }}</button>
          <button class="button" :disabled="isBusy" @click="answer('decline', true)">{{ gettext('I don’t know the sender') }}</button>
        </div>
      </details>
    </div>
    <ProblemNote v-else :error="error" />
  </div>
</template>
