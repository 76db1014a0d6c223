<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { askWhoIam, me } from './me'
import { proving } from './proof'
import { counted, deviceWords, moment } from '@/frame/words'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['me', 'sign-in'], query: () => get('/me/sign-in') })
const elsewhere = useQuery({ key: ['me', 'sessions'], query: () => get('/sessions', { filter: `holder.kind eq "person" and holder.id eq "${me.value?.person.id}" and not (ended_at pr)`, limit: '100' }) })
const profile = reactive({ name: '', time_zone: '', locale: '', no_mail: [] as string[], wants_digest: true })
const failed = ref<unknown>(null)
const said = ref('')
const password = ref('')
const address = ref('')
const codes = ref<string[]>([])
const factor = ref<{ secret: string; address: string } | null>(null)
const code = ref('')
const token = reactive({ name: '', scope: 'read', days: 90 })
const made = ref('')
const MAIL: [string, string][] = [['review', 'reviews'], ['offer', 'offers and their answers'], ['request', 'requests for access'], ['grant', 'changes of my access'], ['ending', 'access that ends soon'], ['flag', 'flags'], ['account', 'my accounts']]
const LOCALES: [string, string][] = [['', 'English (as usual here)'], ['en-GB', 'English, 31 March 2026'], ['en-US', 'English, March 31, 2026'], ['de-DE', 'Deutsch'], ['fr-FR', 'Français'], ['es-ES', 'Español'], ['it-IT', 'Italiano'], ['nl-NL', 'Nederlands'], ['cy', 'Cymraeg'], ['nb-NO', 'Norsk'], ['ja-JP', '日本語']]

watch(data, (found) => {
  if (found) Object.assign(profile, { name: found.name, time_zone: found.time_zone ?? '', locale: found.locale ?? '', no_mail: [...found.no_mail], wants_digest: found.wants_digest })
}, { immediate: true })

async function run(call: () => Promise<unknown>, done: string): Promise<void> {
  failed.value = null
  said.value = ''
  try {
    await proving(call)
    said.value = done
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
const saveProfile = () => run(async () => {
  await send('PUT', '/me/profile', { ...profile, time_zone: profile.time_zone || null, locale: profile.locale || null })
  await askWhoIam()
}, 'Kept.')
const changePassword = () => run(async () => {
  await send('PUT', '/me/password', { password: password.value })
  password.value = ''
}, 'Your password is changed; your other sessions have ended.')
const addAddress = () => run(async () => {
  await send('POST', '/me/addresses', { address: address.value })
  address.value = ''
}, 'We have sent a link to that address. The address is added once you open the link.')
const setUp = () => run(async () => { factor.value = await send('POST', '/me/factor') }, '')
const confirmFactor = () => run(async () => {
  await send('PUT', '/me/factor', { code: code.value })
  factor.value = null
  code.value = ''
  codes.value = (await send('POST', '/me/recovery-codes')).codes
}, 'From now on a code is asked for at every sign-in. Keep the recovery codes below.')
const makeCodes = () => run(async () => { codes.value = (await send('POST', '/me/recovery-codes')).codes }, 'The previous codes no longer work.')
const makeToken = () => run(async () => {
  made.value = (await send('POST', '/me/tokens', token)).token
  token.name = ''
}, 'The token is shown only now.')
</script>

<template>
  <PageHead title="My sign-in" about="Your name and addresses, what you sign in with, and how you are told.">
    <RouterLink to="/organisations" class="button">My organisations</RouterLink>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="grid items-start gap-5 lg:grid-cols-2">
    <form class="card space-y-4 p-5" @submit.prevent="saveProfile">
      <h2 class="text-xl">Name and times</h2>
      <label class="block font-semibold">Name <input v-model="profile.name" required class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">Time zone <input v-model="profile.time_zone" class="field mt-1 font-normal" placeholder="the organisation’s" /></label>
      <label class="block font-semibold">Dates are written in <select v-model="profile.locale" class="field mt-1 font-normal"><option v-for="[locale, words] in LOCALES" :key="locale" :value="locale">{{ words }}</option></select></label>
      <fieldset>
        <legend class="font-semibold">Mail that you do not want</legend>
        <p class="text-soft">Notices come all the same; so does mail about who decides about your accounts.</p>
        <label v-for="[kind, words] in MAIL" :key="kind" class="mt-1 flex items-center gap-2"><input v-model="profile.no_mail" type="checkbox" :value="kind" class="accent-moss" /> about {{ words }}</label>
      </fieldset>
      <label class="flex items-center gap-2"><input v-model="profile.wants_digest" type="checkbox" class="accent-moss" /> The weekly letter about flags</label>
      <button class="button-main">Save</button>
    </form>
    <div class="space-y-5">
      <section class="card p-5" aria-labelledby="addresses">
        <h2 id="addresses" class="text-xl">Addresses</h2>
        <ul class="mt-2 divide-y divide-line">
          <li v-for="one in data.addresses" :key="one.address" class="flex flex-wrap items-center gap-2 py-1.5">
            <span class="flex-1 break-all">{{ one.address }} <span class="text-sm text-soft">{{ one.is_first ? 'mail goes here; ' : '' }}{{ one.confirmed_at ? 'confirmed' : 'not confirmed' }}</span></span>
            <template v-if="!one.is_first">
              <button class="button" :disabled="!one.confirmed_at" @click="run(() => send('PUT', '/me/addresses/first', { address: one.address }), 'Mail goes there, and you sign in with it.')">Use it<span class="sr-only">: {{ one.address }}</span></button>
              <button class="button" @click="run(() => send('POST', '/me/addresses/remove', { address: one.address }), 'Removed.')">Remove<span class="sr-only"> {{ one.address }}</span></button>
            </template>
            <button v-else-if="!one.confirmed_at" class="link" @click="run(() => send('POST', '/me/address'), 'A link is on its way.')">Send me a link</button>
          </li>
        </ul>
        <form class="mt-3 flex gap-2" @submit.prevent="addAddress"><input v-model="address" type="email" required class="field" aria-label="Another address" placeholder="Another address" /><button class="button">Add</button></form>
      </section>
      <section class="card space-y-3 p-5" aria-labelledby="secrets">
        <h2 id="secrets" class="text-xl">Password and second factor</h2>
        <form class="flex gap-2" @submit.prevent="changePassword"><input v-model="password" type="password" required minlength="12" autocomplete="new-password" class="field" aria-label="New password" placeholder="New password, 12 characters or more" /><button class="button">Change</button></form>
        <p v-if="data.password_set_at" class="text-sm text-soft">Last changed {{ moment(data.password_set_at) }}.</p>
        <template v-if="data.second_factor_since">
          <p>A second factor since {{ moment(data.second_factor_since) }}; {{ counted(data.recovery_codes_left, 'recovery code') }} left.</p>
          <div class="flex flex-wrap gap-2"><button class="button" @click="makeCodes">Create new recovery codes</button><button class="button" @click="run(() => send('DELETE', '/me/factor'), 'Removed.')">Remove the second factor</button></div>
        </template>
        <p v-else-if="!factor">No second factor. <button class="link" @click="setUp">Set one up</button></p>
        <form v-if="factor" class="space-y-2 rounded-md bg-sunk p-3" @submit.prevent="confirmFactor">
          <p>Put this into an app that shows codes: <code class="font-mono break-all">{{ factor.secret }}</code></p>
          <label class="block font-semibold">The code that it shows <input v-model="code" inputmode="numeric" autocomplete="one-time-code" required class="field mt-1 max-w-40 font-normal" /></label>
          <button class="button-main">Confirm</button>
        </form>
        <div v-if="codes.length" class="rounded-md bg-sunk p-3"><p class="font-semibold">Each of these stands in for the second factor once. They are shown only now.</p><ul class="mt-1 grid grid-cols-2 font-mono"><li v-for="one in codes" :key="one">{{ one }}</li></ul></div>
      </section>
      <section class="card p-5" aria-labelledby="open">
        <h2 id="open" class="text-xl">Where you are signed in</h2>
        <ul class="mt-2 divide-y divide-line">
          <li v-for="one in data.sessions" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5"><span class="min-w-0 flex-1"><span class="block truncate">{{ deviceWords(one.device) }}</span><span class="text-sm text-soft">from {{ one.address }}, last seen {{ moment(one.last_seen_at) }}{{ one.is_this ? '; this one' : '' }}</span></span><button v-if="!one.is_this" class="button" @click="run(() => send('DELETE', `/me/sessions/${one.id}`), 'Ended.')">End<span class="sr-only"> the session from {{ one.address }}</span></button></li>
        </ul>
        <button v-if="data.sessions.length > 1" class="button mt-2" @click="run(() => send('DELETE', '/me/sessions'), 'All others have ended.')">End all others</button>
      </section>
      <section v-if="elsewhere.data.value?.rows.length" class="card p-5" aria-labelledby="elsewhere">
        <h2 id="elsewhere" class="text-xl">Your sessions in connected systems</h2>
        <ul class="mt-2 divide-y divide-line">
          <li v-for="one in elsewhere.data.value.rows" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5"><span class="min-w-0 flex-1">{{ one.account.name }}: {{ one.device || 'a device' }}<span class="block text-sm text-soft">from {{ one.place || one.address || 'an unknown place' }}, since {{ moment(one.started_at) }}</span></span><button class="button" @click="run(() => send('POST', `/sessions/${one.id}/end`).then(() => elsewhere.refetch()), 'It is being ended in its system; it stays here until the system shows it gone.')">End<span class="sr-only"> the session in {{ one.account.name }}</span></button></li>
        </ul>
      </section>
      <section class="card p-5" aria-labelledby="tokens">
        <h2 id="tokens" class="text-xl">API tokens</h2>
        <p v-if="!data.tokens.length" class="text-soft">No tokens yet. A program that reads or changes data for you needs one.</p>
        <ul class="mt-2 divide-y divide-line"><li v-for="one in data.tokens" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5"><span class="flex-1">{{ one.name }} <span class="block text-sm text-soft">{{ one.scope === 'read' ? 'may read' : 'may do what you may' }}; {{ one.last_used_at ? `used ${moment(one.last_used_at)}` : 'never used' }}; runs out {{ moment(one.expires_at) }}</span></span><button class="button" @click="run(() => send('DELETE', `/tokens/${one.id}`), 'Ended.')">End<span class="sr-only"> {{ one.name }}</span></button></li></ul>
        <form class="mt-3 flex flex-wrap gap-2 sm:flex-nowrap" @submit.prevent="makeToken"><input v-model="token.name" required class="field" aria-label="What the token is for" placeholder="What it is for" /><select v-model="token.scope" class="field w-40" aria-label="What it may"><option value="read">may read</option><option value="write">may do all</option></select><button class="button">Create</button></form>
        <p v-if="made" class="mt-2 rounded-md bg-sunk p-3">Shown only now: <code class="font-mono break-all">{{ made }}</code></p>
      </section>
    </div>
  </div>
</template>
