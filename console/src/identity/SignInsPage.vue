<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { me } from './me'
import { proving } from './proof'
import type { RoleName, SignInOf } from '@/service/types'
import { counted, moment } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
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
const ROLES: [RoleName, string][] = [['administrator', 'runs everything'], ['auditor', 'sees all, changes nothing'], ['reviewer', 'decides in reviews'], ['member', 'sees what is theirs']]

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
const setRole = (row: SignInOf, role: string) => run(() => send('PUT', `/sign-ins/${row.id}/role`, { role }), `${row.person.name} is ${role} now.`)

async function invite(): Promise<void> {
  inviteError.value = null
  try {
    const found = await proving(() => send('POST', '/invitations', wish))
    said.value = `${found.person.name} is invited; a link is on its way to ${found.address}.`
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
    suspend: { words: `Suspend ${name}`, about: 'They can’t sign in until you lift the suspension. Open sessions end at once.', doing: 'Suspend the sign-in', call: () => send('PUT', `/sign-ins/${row.id}/suspended`), done: `${name} can’t sign in any more.` },
    away: { words: `Remove the sign-in of ${name}`, about: 'They stay in the register with their access. To sign in again they have to be invited.', doing: 'Remove the sign-in', call: () => send('DELETE', `/sign-ins/${row.id}`), done: `${name} has no sign-in any more.` },
    sessions: { words: `End the sessions of ${name}`, about: 'Every browser on which they are signed in.', doing: `End ${counted(row.sessions, 'session')}`, call: () => send('DELETE', `/sign-ins/${row.id}/sessions`), done: `The sessions of ${name} have ended.` },
    tokens: { words: `End the API tokens of ${name}`, about: 'Programs that use them stop working.', doing: `End ${counted(row.tokens, 'token')}`, call: () => send('DELETE', `/sign-ins/${row.id}/tokens`), done: `The tokens of ${name} have ended.` },
    factor: { words: `Reset the second factor of ${name}`, about: 'They sign in with the password alone until they set up another. Make sure that the request really comes from them.', doing: 'Reset the second factor', call: () => send('DELETE', `/sign-ins/${row.id}/factor`), done: `${name} has no second factor now.` },
  }
  asked.value = words[what]
}
</script>

<template>
  <PageHead title="Sign-ins" about="Who signs in to Open Latch here, and what they may do. Owners and stewards follow from the register.">
    <button class="button-main" @click="isInviting = true">Invite somebody</button>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <ul v-if="data" class="card divide-y divide-line" data-test="sign-ins">
    <li v-for="row in data.rows" :key="row.id" class="grid items-center gap-x-4 gap-y-2 px-5 py-3 lg:grid-cols-[1.4fr_11rem_1.6fr_auto]">
      <div><p class="font-medium">{{ row.person.name }} <span v-if="row.person.id === me?.person.id" class="font-normal text-soft">(you)</span></p><p class="text-sm break-words text-soft">{{ row.address }}</p></div>
      <select :value="row.role" :aria-label="`Role of ${row.person.name}`" class="field" @change="setRole(row, ($event.target as HTMLSelectElement).value)"><option v-for="[role, words] in ROLES" :key="role" :value="role" :title="words">{{ role }}</option></select>
      <p class="text-soft">
        <strong v-if="row.suspended_at" class="text-rust">suspended since {{ moment(row.suspended_at) }}. </strong>
        <strong v-if="row.standing === 'left'" class="text-rust">has left. </strong>
        {{ row.second_factor ? 'Second factor' : 'No second factor' }}; last seen {{ row.last_seen_at ? moment(row.last_seen_at) : 'never' }}; {{ counted(row.sessions, 'session') }}, {{ counted(row.tokens, 'token') }}
      </p>
      <details class="lg:w-40">
        <summary class="button w-fit cursor-pointer list-none">More<span class="sr-only"> for {{ row.person.name }}</span></summary>
        <div class="mt-1 flex flex-wrap gap-1 lg:flex-col">
          <button class="button" :disabled="!row.sessions" @click="ask(row, 'sessions')">End {{ counted(row.sessions, 'session') }}</button>
          <button class="button" :disabled="!row.tokens" @click="ask(row, 'tokens')">End {{ counted(row.tokens, 'token') }}</button>
          <button class="button" :disabled="!row.second_factor" @click="ask(row, 'factor')">Reset second factor</button>
          <button v-if="row.suspended_at" class="button" @click="run(() => send('DELETE', `/sign-ins/${row.id}/suspended`), `${row.person.name} can sign in again.`)">Lift the suspension</button>
          <button v-else class="button-end" @click="ask(row, 'suspend')">Suspend</button>
          <button class="button-end" @click="ask(row, 'away')">Remove</button>
        </div>
      </details>
    </li>
  </ul>
  <template v-if="invited.data.value?.rows.length">
    <h2 class="mt-6 mb-2 text-xl">Invited</h2>
    <ul class="card divide-y divide-line">
      <li v-for="row in invited.data.value.rows" :key="row.id" class="flex flex-wrap items-center gap-x-4 gap-y-1 px-5 py-2.5">
        <span class="min-w-48 flex-1"><strong class="font-medium">{{ row.person.name }}</strong> as {{ row.role }} <span class="text-soft">by {{ row.sent_by }}, to {{ row.address }}; the link runs out {{ moment(row.runs_out_at) }}</span></span>
        <button class="button" @click="run(() => send('POST', `/invitations/${row.id}/again`), `Sent again to ${row.address}.`)">Send again<span class="sr-only"> to {{ row.person.name }}</span></button>
        <button class="button" @click="run(() => send('DELETE', `/invitations/${row.id}`), 'The link opens nothing any more.')">Withdraw<span class="sr-only"> the invitation of {{ row.person.name }}</span></button>
      </li>
    </ul>
  </template>
  <ModalBox :open="isInviting" title="Invite somebody to sign in" @close="isInviting = false">
    <form class="mt-3 space-y-4" @submit.prevent="invite">
      <div><label for="invite-person" class="font-semibold">Somebody in the register</label><RecordPicker id="invite-person" v-model="wish.person" of="people" label="Somebody in the register" filter="standing ne &quot;left&quot;" class="mt-1" /></div>
      <template v-if="!wish.person">
        <p class="text-soft">Or somebody new:</p>
        <label class="block font-semibold">Name <input v-model="wish.name" class="field mt-1 font-normal" /></label>
      </template>
      <label class="block font-semibold">E-mail address <input v-model="wish.address" type="email" class="field mt-1 font-normal" /><span class="font-normal text-soft">{{ wish.person ? 'Only needed for somebody without an address.' : '' }}</span></label>
      <fieldset><legend class="font-semibold">Role</legend><label v-for="[role, words] in ROLES" :key="role" class="mt-1 flex items-center gap-2"><input v-model="wish.role" type="radio" name="role" :value="role" class="accent-moss" /> {{ role }} <span class="text-soft">{{ words }}</span></label></fieldset>
      <ProblemNote :error="inviteError" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="isInviting = false">Cancel</button><button class="button-main">Send the invitation</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="asked !== null" :title="asked?.words ?? ''" @close="asked = null">
    <p class="mt-3">{{ asked?.about }}</p>
    <div class="mt-4 flex justify-end gap-2"><button class="button" @click="asked = null">Cancel</button><button class="button-end" @click="run(asked!.call, asked!.done)">{{ asked?.doing }}</button></div>
  </ModalBox>
</template>
