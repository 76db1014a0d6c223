<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { plain } from '@/frame/words'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { CallFailed, get, send } from '@/service/api'
import { switchOrganisation } from '@/identity/me'
import { hasPasskeys, usePasskey } from '@/identity/passkeys'
import { proving } from '@/identity/proof'
import type { Ceremony, MyOrganisation } from '@/service/types'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['me', 'organisations'], query: () => get('/me/organisations') })
const failed = ref<unknown>(null)
const asked = ref<MyOrganisation | null>(null)
const ceremony = ref<Ceremony | null>(null)
const code = ref('')
const wish = reactive({ organisation: '', address: '', password: '', code: '' })
const said = ref('')

async function go(row: MyOrganisation, byPasskey: Ceremony | null = null): Promise<void> {
  failed.value = null
  try {
    await switchOrganisation(row.sign_in, code.value, byPasskey && (await usePasskey(byPasskey)))
  } catch (problem) {
    if (problem instanceof CallFailed) ceremony.value = problem.problem.passkey ?? ceremony.value
    if (problem instanceof CallFailed && problem.problem.type?.endsWith(':factor-needed') && asked.value === null) asked.value = row
    else failed.value = problem
  }
  code.value = ''
}
async function link(): Promise<void> {
  failed.value = null
  try {
    await proving(() => send('POST', '/me/organisations', wish))
    said.value = gettext('Linked. You can switch to it from here.')
    Object.assign(wish, { organisation: '', address: '', password: '', code: '' })
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
async function unlink(row: MyOrganisation): Promise<void> {
  failed.value = null
  try {
    await send('DELETE', `/me/organisations/${row.sign_in}`)
    said.value = gettext('Your sign-in at %{organisation} stays as it is, and belongs to this one no more.', { organisation: row.organisation.name })
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <PageHead :title="gettext('My organisations')" :about="gettext('Where you have a sign-in, and what you may do there. What you do at one is kept there.')" />
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote v-if="!asked" :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <ul v-if="data" class="card mb-6 divide-y divide-line" data-test="organisations">
    <li v-for="row in data.organisations" :key="row.sign_in" class="flex flex-wrap items-center gap-x-4 gap-y-2 px-5 py-3">
      <div class="min-w-56 flex-1">
        <p class="font-medium">{{ row.organisation.name }} <span v-if="row.is_current" class="font-normal text-soft">{{ gettext('(you are here)') }}</span></p>
        <p class="text-sm text-soft">{{ gettext('as %{person}, %{role}%{as_partner}; %{is_closed}%{levels}', { person: row.person, role: plain(row.role), as_partner: row.as_partner ? gettext(', of its partner') : '', is_closed: row.is_closed ? gettext('closed') : gettext('reaches %{count}', { count: ngettext('%{n} account', '%{n} accounts', row.accounts) }), levels: row.levels.length ? `: ${row.levels.join(', ')}` : '' }) }}</p>
      </div>
      <template v-if="!row.is_current">
        <button class="button-main" :disabled="row.is_closed" @click="go(row)">{{ gettext('Switch') }}<span class="sr-only">{{ ` ${gettext('to %{organisation}', { organisation: row.organisation.name })}` }}</span></button>
        <button v-if="!row.as_partner" class="button" @click="unlink(row)">{{ gettext('Unlink') }}<span class="sr-only"> {{ row.organisation.name }}</span></button>
      </template>
    </li>
  </ul>
  <p v-if="data?.more" class="mb-6 text-soft">{{ gettext('%{more} further ones are not shown.', { more: data.more }) }}</p>
  <form class="card max-w-xl space-y-3 p-5" @submit.prevent="link">
    <h2 class="text-xl">{{ gettext('Link another sign-in of mine') }}</h2>
    <p class="text-soft">{{ gettext('You prove that it is yours by what you sign in with there.') }}</p>
    <label class="block font-semibold">{{ gettext('Organisation') }} <input v-model="wish.organisation" required class="field mt-1 font-normal" :placeholder="gettext('its short name')" /></label>
    <label class="block font-semibold">{{ gettext('Address there') }} <input v-model="wish.address" type="email" required autocomplete="off" class="field mt-1 font-normal" /></label>
    <label class="block font-semibold">{{ gettext('Password there') }} <input v-model="wish.password" type="password" required autocomplete="off" class="field mt-1 font-normal" /></label>
    <label class="block font-semibold"><span class="block">{{ gettext('Code') }} <span class="font-normal text-soft">{{ gettext('(with a second factor there)') }}</span></span> <input v-model="wish.code" inputmode="numeric" autocomplete="off" class="field mt-1 max-w-40 font-normal" /></label>
    <button class="button-main">{{ gettext('Link it') }}</button>
  </form>
  <ModalBox :open="asked !== null" :title="gettext('Switch to %{organisation}', { organisation: asked?.organisation.name ?? '' })" @close="asked = null">
    <form class="mt-3 space-y-4" @submit.prevent="go(asked!)">
      <p>{{ gettext('You have a second factor there.') }}</p>
      <button v-if="ceremony && hasPasskeys" type="button" class="button" @click="go(asked!, ceremony)">{{ gettext('Use your passkey') }}</button>
      <label class="block font-semibold">{{ gettext('The code that it shows now') }} <input v-model="code" inputmode="numeric" autocomplete="one-time-code" required class="field mt-1 max-w-40 font-normal" /></label>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="asked = null">{{ gettext('Stay here') }}</button><button class="button-main">{{ gettext('Switch') }}</button></div>
    </form>
  </ModalBox>
</template>
