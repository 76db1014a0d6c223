<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { askWhoIam, me } from './me'
import { proving } from './proof'
import PasskeysBox from './PasskeysBox.vue'
import { deviceWords, moment } from '@/frame/words'
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
const MAIL: [string, string][] = [['review', gettext('reviews')], ['offer', gettext('offers and their answers')], ['request', gettext('requests for access')], ['grant', gettext('changes of my access')], ['ending', gettext('access that ends soon')], ['flag', gettext('flags')], ['account', gettext('my accounts')]]
const datesOnly = (language: string) => gettext('%{language}: dates only', { language })
const LOCALES: [string, string][] = [['', gettext('Same as the browser')], ['en-GB', gettext('English, 31 March 2026')], ['en-US', gettext('English, March 31, 2026')], ['de-DE', 'Deutsch'], ['fr-FR', datesOnly('Français')], ['es-ES', datesOnly('Español')], ['it-IT', datesOnly('Italiano')], ['nl-NL', datesOnly('Nederlands')], ['cy', datesOnly('Cymraeg')], ['nb-NO', datesOnly('Norsk')], ['ja-JP', datesOnly('日本語')]]

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
}, gettext('Kept.'))
const changePassword = () => run(async () => {
  await send('PUT', '/me/password', { password: password.value })
  password.value = ''
}, gettext('Your password is changed; your other sessions have ended.'))
const addAddress = () => run(async () => {
  await send('POST', '/me/addresses', { address: address.value })
  address.value = ''
}, gettext('We have sent a link to that address. The address is added once you open the link.'))
const setUp = () => run(async () => { factor.value = await send('POST', '/me/factor') }, '')
const confirmFactor = () => run(async () => {
  await send('PUT', '/me/factor', { code: code.value })
  factor.value = null
  code.value = ''
  codes.value = (await send('POST', '/me/recovery-codes')).codes
}, gettext('From now on a code is asked for at every sign-in. Keep the recovery codes below.'))
const makeCodes = () => run(async () => { codes.value = (await send('POST', '/me/recovery-codes')).codes }, gettext('The previous codes no longer work.'))
const makeToken = () => run(async () => {
  made.value = (await send('POST', '/me/tokens', token)).token
  token.name = ''
}, gettext('The token is shown only now.'))
</script>

<template>
  <PageHead :title="gettext('My sign-in')" :about="gettext('Your name and addresses, what you sign in with, and how you are told.')">
    <RouterLink to="/organisations" class="button">{{ gettext('My organisations') }}</RouterLink>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div v-if="data" class="grid items-start gap-5 lg:grid-cols-2">
    <form class="card space-y-4 p-5" @submit.prevent="saveProfile">
      <h2 class="text-xl">{{ gettext('Name and times') }}</h2>
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="profile.name" required class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('Time zone') }} <input v-model="profile.time_zone" class="field mt-1 font-normal" :placeholder="gettext('the organisation’s')" /></label>
      <label class="block font-semibold">{{ gettext('Language, and how dates are written') }} <select v-model="profile.locale" class="field mt-1 font-normal"><option v-for="[locale, words] in LOCALES" :key="locale" :value="locale">{{ words }}</option></select></label>
      <fieldset>
        <legend class="font-semibold">{{ gettext('Mail that you do not want') }}</legend>
        <p class="text-soft">{{ gettext('Notices come all the same; so does mail about who decides about your accounts.') }}</p>
        <label v-for="[kind, words] in MAIL" :key="kind" class="mt-1 flex items-center gap-2"><input v-model="profile.no_mail" type="checkbox" :value="kind" class="accent-moss" /> {{ gettext('about %{words}', { words }) }}</label>
      </fieldset>
      <label class="flex items-center gap-2"><input v-model="profile.wants_digest" type="checkbox" class="accent-moss" /> {{ gettext('The weekly letter about flags') }}</label>
      <button class="button-main">{{ gettext('Save') }}</button>
    </form>
    <div class="space-y-5">
      <section class="card p-5" aria-labelledby="addresses">
        <h2 id="addresses" class="text-xl">{{ gettext('Addresses') }}</h2>
        <ul class="mt-2 divide-y divide-line">
          <li v-for="one in data.addresses" :key="one.address" class="flex flex-wrap items-center gap-2 py-1.5">
            <span class="flex-1 break-all">{{ one.address }} <span class="text-sm text-soft">{{ one.is_first ? `${gettext('mail goes here;')} ` : '' }}{{ one.confirmed_at ? gettext('confirmed') : gettext('not confirmed') }}</span></span>
            <template v-if="!one.is_first">
              <button class="button" :disabled="!one.confirmed_at" @click="run(() => send('PUT', '/me/addresses/first', { address: one.address }), gettext('Mail goes there, and you sign in with it.'))">{{ gettext('Use it') }}<span class="sr-only">: {{ one.address }}</span></button>
              <button class="button" @click="run(() => send('POST', '/me/addresses/remove', { address: one.address }), gettext('Removed.'))">{{ gettext('Remove') }}<span class="sr-only"> {{ one.address }}</span></button>
            </template>
            <button v-else-if="!one.confirmed_at" class="link" @click="run(() => send('POST', '/me/address'), gettext('A link is on its way.'))">{{ gettext('Send me a link') }}</button>
          </li>
        </ul>
        <form class="mt-3 flex gap-2" @submit.prevent="addAddress"><input v-model="address" type="email" required class="field" :aria-label="gettext('Another address')" :placeholder="gettext('Another address')" /><button class="button">{{ gettext('Add') }}</button></form>
      </section>
      <section class="card space-y-3 p-5" aria-labelledby="secrets">
        <h2 id="secrets" class="text-xl">{{ gettext('Password and second factor') }}</h2>
        <form class="flex gap-2" @submit.prevent="changePassword"><input v-model="password" type="password" required minlength="12" autocomplete="new-password" class="field" :aria-label="gettext('New password')" :placeholder="gettext('New password, 12 characters or more')" /><button class="button">{{ gettext('Change') }}</button></form>
        <p v-if="data.password_set_at" class="text-sm text-soft">{{ gettext('Last changed %{password_set_at}.', { password_set_at: moment(data.password_set_at) }) }}</p>
        <template v-if="data.second_factor_since">
          <p>{{ gettext('A second factor since %{second_factor_since}; %{count} left.', { second_factor_since: moment(data.second_factor_since), count: ngettext('%{n} recovery code', '%{n} recovery codes', data.recovery_codes_left) }) }}</p>
          <div class="flex flex-wrap gap-2"><button class="button" @click="makeCodes">{{ gettext('Create new recovery codes') }}</button><button class="button" @click="run(() => send('DELETE', '/me/factor'), gettext('Removed.'))">{{ gettext('Remove the second factor') }}</button></div>
        </template>
        <template v-else-if="!factor">
          <p>{{ data.passkeys.length ? gettext('No codes; your passkeys stand in for them.') : gettext('No second factor.') }} <button class="link" @click="setUp">{{ gettext('Set codes up') }}</button></p>
          <button v-if="data.passkeys.length" class="button" @click="makeCodes">{{ gettext('Create recovery codes') }}</button>
        </template>
        <form v-if="factor" class="space-y-2 rounded-md bg-sunk p-3" @submit.prevent="confirmFactor">
          <p>{{ gettext('Put this into an app that shows codes:') }} <code class="font-mono break-all">{{ factor.secret }}</code></p>
          <label class="block font-semibold">{{ gettext('The code that it shows') }} <input v-model="code" inputmode="numeric" autocomplete="one-time-code" required class="field mt-1 max-w-40 font-normal" /></label>
          <button class="button-main">{{ gettext('Confirm') }}</button>
        </form>
        <div v-if="codes.length" class="rounded-md bg-sunk p-3"><p class="font-semibold">{{ gettext('Each of these stands in for the second factor once. They are shown only now.') }}</p><ul class="mt-1 grid grid-cols-2 font-mono"><li v-for="one in codes" :key="one">{{ one }}</li></ul></div>
      </section>
      <PasskeysBox :rows="data.passkeys" :run="run" />
      <section class="card p-5" aria-labelledby="open">
        <h2 id="open" class="text-xl">{{ gettext('Where you are signed in') }}</h2>
        <ul class="mt-2 divide-y divide-line">
          <li v-for="one in data.sessions" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5"><span class="min-w-0 flex-1"><span class="block truncate">{{ deviceWords(one.device) }}</span><span class="text-sm text-soft">{{ gettext('from %{address}, last seen %{last_seen_at}%{is_this}', { address: one.address, last_seen_at: moment(one.last_seen_at), is_this: one.is_this ? gettext('; this one') : '' }) }}</span></span><button v-if="!one.is_this" class="button" @click="run(() => send('DELETE', `/me/sessions/${one.id}`), gettext('Ended.'))">{{ gettext('End') }}<span class="sr-only">{{ ` ${gettext('the session from %{address}', { address: one.address })}` }}</span></button></li>
        </ul>
        <button v-if="data.sessions.length > 1" class="button mt-2" @click="run(() => send('DELETE', '/me/sessions'), gettext('All others have ended.'))">{{ gettext('End all others') }}</button>
      </section>
      <section v-if="elsewhere.data.value?.rows.length" class="card p-5" aria-labelledby="elsewhere">
        <h2 id="elsewhere" class="text-xl">{{ gettext('Your sessions in connected systems') }}</h2>
        <ul class="mt-2 divide-y divide-line">
          <li v-for="one in elsewhere.data.value.rows" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5"><span class="min-w-0 flex-1">{{ one.account.name }}: {{ one.device || gettext('a device') }}<span class="block text-sm text-soft">{{ gettext('from %{place}, since %{started_at}', { place: one.place || one.address || gettext('an unknown place'), started_at: moment(one.started_at) }) }}</span></span><button class="button" @click="run(() => send('POST', `/sessions/${one.id}/end`).then(() => elsewhere.refetch()), gettext('It is being ended in its system; it stays here until the system shows it gone.'))">{{ gettext('End') }}<span class="sr-only">{{ ` ${gettext('the session in %{account}', { account: one.account.name })}` }}</span></button></li>
        </ul>
      </section>
      <section class="card p-5" aria-labelledby="tokens">
        <h2 id="tokens" class="text-xl">{{ gettext('API tokens') }}</h2>
        <p v-if="!data.tokens.length" class="text-soft">{{ gettext('No tokens yet. A program that reads or changes data for you needs one.') }}</p>
        <ul class="mt-2 divide-y divide-line"><li v-for="one in data.tokens" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5"><span class="flex-1">{{ one.name }} <span class="block text-sm text-soft">{{ gettext('%{scope}; %{last_used_at}; runs out %{expires_at}', { scope: one.scope === 'read' ? gettext('may read') : gettext('may do what you may'), last_used_at: one.last_used_at ? gettext('used %{last_used_at}', { last_used_at: moment(one.last_used_at) }) : gettext('never used'), expires_at: moment(one.expires_at) }) }}</span></span><button class="button" @click="run(() => send('DELETE', `/tokens/${one.id}`), gettext('Ended.'))">{{ gettext('End') }}<span class="sr-only"> {{ one.name }}</span></button></li></ul>
        <form class="mt-3 flex flex-wrap gap-2 sm:flex-nowrap" @submit.prevent="makeToken"><input v-model="token.name" required class="field" :aria-label="gettext('What the token is for')" :placeholder="gettext('What it is for')" /><select v-model="token.scope" class="field w-40" :aria-label="gettext('What it may')"><option value="read">{{ gettext('may read') }}</option><option value="write">{{ gettext('may do all') }}</option></select><button class="button">{{ gettext('Create') }}</button></form>
        <p v-if="made" class="mt-2 rounded-md bg-sunk p-3">{{ gettext('Shown only now:') }} <code class="font-mono break-all">{{ made }}</code></p>
      </section>
    </div>
  </div>
</template>
