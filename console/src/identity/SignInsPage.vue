<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { me } from './me'
import { proving } from './proof'
import type { RoleName, SignInOf } from '@/service/types'
import { moment, plain } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ProvidersBox from './ProvidersBox.vue'
import StateNote from '@/frame/StateNote.vue'
import RecordPicker from '@/records/RecordPicker.vue'

const { data, status, error, refetch } = useQuery({ key: ['sign-ins'], query: () => get('/sign-ins') })
const invited = useQuery({ key: ['invitations'], query: () => get('/invitations') })
const failed = ref<unknown>(null)
const said = ref('')
const isInviting = ref(false)
const inviteError = ref<unknown>(null)
const wish = reactive({ person: null as string | null, name: '', address: '', role: 'member' as RoleName })
const asked = ref<{ words: string; about: string; doing: string; call: () => Promise<unknown>; done: string } | null>(null)
const ROLES: [RoleName, string][] = [['administrator', gettext('runs everything')], ['auditor', gettext('sees all, changes nothing')], ['reviewer', gettext('decides in reviews')], ['member', gettext('sees what is theirs')]]

async function run(call: () => Promise<unknown>, done: string): Promise<void> {
  failed.value = null
  said.value = ''
  try {
    await proving(call)
    said.value = done
  } catch (problem) {
    failed.value = problem
  }
  asked.value = null
  void refetch()
  void invited.refetch()
}
const setRole = (row: SignInOf, role: string) => run(() => send('PUT', `/sign-ins/${row.id}/role`, { role }), gettext('%{person} is %{role} now.', { person: row.person.name, role: plain(role) }))

async function invite(): Promise<void> {
  inviteError.value = null
  try {
    const found = await proving(() => send('POST', '/invitations', wish))
    said.value = gettext('%{person} is invited; a link is on its way to %{address}.', { person: found.person.name, address: found.address })
    isInviting.value = false
    Object.assign(wish, { person: null, name: '', address: '', role: 'member' })
    void invited.refetch()
  } catch (problem) {
    inviteError.value = problem
  }
}

function ask(row: SignInOf, what: 'suspend' | 'away' | 'sessions' | 'tokens' | 'factor'): void {
  const name = row.person.name
  const words = {
    suspend: { words: gettext('Suspend %{name}', { name }), about: gettext('They can’t sign in until you lift the suspension. Open sessions end at once.'), doing: gettext('Suspend the sign-in'), call: () => send('PUT', `/sign-ins/${row.id}/suspended`), done: gettext('%{name} can’t sign in any more.', { name }) },
    away: { words: gettext('Remove the sign-in of %{name}', { name }), about: gettext('They stay in the register with their access. To sign in again they have to be invited.'), doing: gettext('Remove the sign-in'), call: () => send('DELETE', `/sign-ins/${row.id}`), done: gettext('%{name} has no sign-in any more.', { name }) },
    sessions: { words: gettext('End the sessions of %{name}', { name }), about: gettext('Every browser on which they are signed in.'), doing: gettext('End %{count}', { count: ngettext('%{n} session', '%{n} sessions', row.sessions) }), call: () => send('DELETE', `/sign-ins/${row.id}/sessions`), done: gettext('The sessions of %{name} have ended.', { name }) },
    tokens: { words: gettext('End the API tokens of %{name}', { name }), about: gettext('Programs that use them stop working.'), doing: gettext('End %{count}', { count: ngettext('%{n} token', '%{n} tokens', row.tokens) }), call: () => send('DELETE', `/sign-ins/${row.id}/tokens`), done: gettext('The tokens of %{name} have ended.', { name }) },
    factor: { words: gettext('Reset the second factor of %{name}', { name }), about: gettext('They sign in with the password alone until they set up another. Make sure that the request really comes from them.'), doing: gettext('Reset the second factor'), call: () => send('DELETE', `/sign-ins/${row.id}/factor`), done: gettext('%{name} has no second factor now.', { name }) },
  }
  asked.value = words[what]
}
</script>

<template>
  <PageHead docs="explanation/who-sees-what" :title="gettext('Sign-ins')" :about="gettext('Who signs in to Open Latch here, and what they may do. Owners and stewards follow from the register.')">
    <button class="button-main" @click="isInviting = true">{{ gettext('Invite somebody') }}</button>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <ul v-if="data" class="card divide-y divide-line" data-test="sign-ins">
    <li v-for="row in data.rows" :key="row.id" class="grid items-center gap-x-4 gap-y-2 px-5 py-3 lg:grid-cols-[1.4fr_11rem_1.6fr_auto]">
      <div><p class="font-medium">{{ row.person.name }} <span v-if="row.person.id === me?.person.id" class="font-normal text-soft">{{ gettext('(you)') }}</span></p><p class="text-sm break-words text-soft">{{ row.address }}</p></div>
      <select :value="row.role" :aria-label="gettext('Role of %{person}', { person: row.person.name })" class="field" @change="setRole(row, ($event.target as HTMLSelectElement).value)"><option v-for="[role, words] in ROLES" :key="role" :value="role" :title="words">{{ plain(role) }}</option></select>
      <p class="text-soft">
        <strong v-if="row.suspended_at" class="text-rust">{{ `${gettext('suspended since %{suspended_at}.', { suspended_at: moment(row.suspended_at) })} ` }}</strong>
        <strong v-if="row.standing === 'left'" class="text-rust">{{ `${gettext('has left.')} ` }}</strong>
        {{ gettext('%{second_factor}; last seen %{last_seen_at}; %{count}, %{count_2}', { second_factor: row.second_factor ? gettext('Second factor') : gettext('No second factor'), last_seen_at: row.last_seen_at ? moment(row.last_seen_at) : gettext('never'), count: ngettext('%{n} session', '%{n} sessions', row.sessions), count_2: ngettext('%{n} token', '%{n} tokens', row.tokens) }) }}
      </p>
      <details class="lg:w-40">
        <summary class="button w-fit cursor-pointer list-none">{{ gettext('More') }}<span class="sr-only">{{ ` ${gettext('for %{person}', { person: row.person.name })}` }}</span></summary>
        <div class="mt-1 flex flex-wrap gap-1 lg:flex-col">
          <button class="button" :disabled="!row.sessions" @click="ask(row, 'sessions')">{{ gettext('End %{count}', { count: ngettext('%{n} session', '%{n} sessions', row.sessions) }) }}</button>
          <button class="button" :disabled="!row.tokens" @click="ask(row, 'tokens')">{{ gettext('End %{count}', { count: ngettext('%{n} token', '%{n} tokens', row.tokens) }) }}</button>
          <button class="button" :disabled="!row.second_factor" @click="ask(row, 'factor')">{{ gettext('Reset second factor') }}</button>
          <button v-if="row.suspended_at" class="button" @click="run(() => send('DELETE', `/sign-ins/${row.id}/suspended`), gettext('%{person} can sign in again.', { person: row.person.name }))">{{ gettext('Lift the suspension') }}</button>
          <button v-else class="button-end" @click="ask(row, 'suspend')">{{ gettext('Suspend') }}</button>
          <button class="button-end" @click="ask(row, 'away')">{{ gettext('Remove') }}</button>
        </div>
      </details>
    </li>
  </ul>
  <template v-if="invited.data.value?.rows.length">
    <h2 class="mt-6 mb-2 text-xl">{{ gettext('Invited') }}</h2>
    <ul class="card divide-y divide-line">
      <li v-for="row in invited.data.value.rows" :key="row.id" class="flex flex-wrap items-center gap-x-4 gap-y-1 px-5 py-2.5">
        <span class="min-w-48 flex-1"><strong class="font-medium">{{ row.person.name }}</strong> {{ gettext('as %{role}', { role: plain(row.role) }) }} <span class="text-soft">{{ gettext('by %{sent_by}, to %{address}; the link runs out %{runs_out_at}', { sent_by: row.sent_by, address: row.address, runs_out_at: moment(row.runs_out_at) }) }}</span></span>
        <button class="button" @click="run(() => send('POST', `/invitations/${row.id}/again`), gettext('Sent again to %{address}.', { address: row.address }))">{{ gettext('Send again') }}<span class="sr-only">{{ ` ${gettext('to %{person}', { person: row.person.name })}` }}</span></button>
        <button class="button" @click="run(() => send('DELETE', `/invitations/${row.id}`), gettext('The link opens nothing any more.'))">{{ gettext('Withdraw') }}<span class="sr-only">{{ ` ${gettext('the invitation of %{person}', { person: row.person.name })}` }}</span></button>
      </li>
    </ul>
  </template>
  <ProvidersBox />
  <ModalBox :open="isInviting" :title="gettext('Invite somebody to sign in')" @close="isInviting = false">
    <form class="mt-3 space-y-4" @submit.prevent="invite">
      <div><label for="invite-person" class="font-semibold">{{ gettext('Somebody in the register') }}</label><RecordPicker id="invite-person" v-model="wish.person" of="people" :label="gettext('Somebody in the register')" filter="standing ne &quot;left&quot;" class="mt-1" /></div>
      <template v-if="!wish.person">
        <p class="text-soft">{{ gettext('Or somebody new:') }}</p>
        <label class="block font-semibold">{{ gettext('Name') }} <input v-model="wish.name" class="field mt-1 font-normal" /></label>
      </template>
      <label class="block font-semibold">{{ gettext('E-mail address') }} <input v-model="wish.address" type="email" class="field mt-1 font-normal" /><span class="font-normal text-soft">{{ wish.person ? gettext('Only needed for somebody without an address.') : '' }}</span></label>
      <fieldset><legend class="font-semibold">{{ gettext('Role') }}</legend><label v-for="[role, words] in ROLES" :key="role" class="mt-1 flex items-center gap-2"><input v-model="wish.role" type="radio" name="role" :value="role" class="accent-moss" /> {{ plain(role) }} <span class="text-soft">{{ words }}</span></label></fieldset>
      <ProblemNote :error="inviteError" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="isInviting = false">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Send the invitation') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="asked !== null" :title="asked?.words ?? ''" @close="asked = null">
    <p class="mt-3">{{ asked?.about }}</p>
    <div class="mt-4 flex justify-end gap-2"><button class="button" @click="asked = null">{{ gettext('Cancel') }}</button><button class="button-end" @click="run(asked!.call, asked!.done)">{{ asked?.doing }}</button></div>
  </ModalBox>
</template>
