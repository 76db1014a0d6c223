<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { CallFailed, get, send } from '@/service/api'
import { hasPasskeys, usePasskey } from './passkeys'
import { signIn } from './me'
import type { Ceremony } from '@/service/types'
import ProblemNote from '@/frame/ProblemNote.vue'

const route = useRoute()
const router = useRouter()
const address = ref('')
const password = ref('')
const code = ref('')
const needsCode = ref(false)
const asked = ref<Ceremony | null>(null)
const organisation = ref('')
const needsOrganisation = ref(false)
const error = ref<unknown>(null)
const isBusy = ref(false)
const at = String(route.query.organisation ?? '')
const providers = useQuery({ key: ['providers', at], query: () => get('/sign-in/providers', { organisation: at }) })
const then = computed(() => encodeURIComponent(String(route.query.then ?? '/')))

const given = () => ({ address: address.value, password: password.value, organisation: organisation.value })
const byCode = () => signIn({ ...given(), code: code.value })
const byPasskey = async () => signIn({ passkey: await usePasskey(await send('POST', '/sign-in/passkey')) })
const byBoth = async (ceremony: Ceremony) => signIn({ ...given(), passkey: await usePasskey(ceremony) })

async function enter(call: () => Promise<void> = byCode): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await call()
    const place = String(route.query.then ?? '/')
    // Only places of our own: a link must not lead away from here.
    await router.push(place.startsWith('/') && !place.startsWith('//') ? place : '/')
  } catch (failed) {
    needsCode.value ||= failed instanceof CallFailed && Boolean(failed.problem.type?.endsWith(':factor-needed'))
    needsOrganisation.value ||= failed instanceof CallFailed && Boolean(failed.problem.type?.endsWith(':organisation-needed'))
    if (failed instanceof CallFailed) asked.value = failed.problem.passkey ?? asked.value
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
      <h1 class="mt-5 text-5xl font-bold">{{ gettext('Open Latch') }}</h1>
      <p class="mt-3 text-lg text-soft">{{ gettext('Who and what can reach each shared account: see it, review it, end it, and know that it is gone.') }}</p>
    </div>
    <form class="card space-y-4 p-6" @submit.prevent="enter()">
      <h2 class="text-xl">{{ gettext('Sign in') }}</h2>
      <template v-if="providers.data.value?.rows.length">
        <a v-for="one in providers.data.value.rows" :key="one.id" :href="`/oidc/start/${one.id}?then=${then}`" class="button-main block w-full text-center">{{ gettext('Sign in with %{one}', { one: one.name }) }}</a>
      </template>
      <button v-if="hasPasskeys" type="button" class="button w-full" :disabled="isBusy" @click="enter(byPasskey)">{{ gettext('Sign in with a passkey') }}</button>
      <p v-if="hasPasskeys || providers.data.value?.rows.length" class="text-center text-soft">{{ gettext('or with a password') }}</p>
      <label class="block font-semibold">
        {{ gettext('Address') }}
        <input v-model="address" type="email" autocomplete="username" required class="field mt-1 font-normal" />
      </label>
      <label class="block font-semibold">
        {{ gettext('Password') }}
        <input v-model="password" type="password" autocomplete="current-password" required class="field mt-1 font-normal" />
      </label>
      <label v-if="needsCode" class="block font-semibold">
        {{ gettext('Code of your second factor') }}
        <input v-model="code" inputmode="numeric" autocomplete="one-time-code" required class="field mt-1 font-normal" />
      </label>
      <button v-if="asked && hasPasskeys" type="button" class="button w-full" :disabled="isBusy" @click="enter(byBoth.bind(null, asked))">{{ gettext('Use your passkey') }}</button>
      <label v-if="needsOrganisation" class="block font-semibold">
        {{ gettext('Organisation') }}
        <input v-model="organisation" autocomplete="organization" required class="field mt-1 font-normal" />
      </label>
      <ProblemNote :error="error" />
      <button class="button-main w-full" :disabled="isBusy">{{ gettext('Sign in') }}</button>
      <p class="text-center"><RouterLink to="/forgotten" class="link">{{ gettext('Forgotten your password?') }}</RouterLink></p>
    </form>
  </div>
</template>
