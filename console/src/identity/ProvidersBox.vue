<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { plain } from '@/frame/words'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { proving } from './proof'
import type { ProviderOf, RoleName } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['identity-providers'], query: () => get('/identity-providers') })
const EMPTY = { name: '', issuer: '', client_id: '', client_secret: '', address_claim: 'email', roles_claim: '', acr: '', amr: '' }
const wish = reactive({ ...EMPTY })
const roles = ref<{ value: string; role: RoleName }[]>([])
const editing = ref<ProviderOf | 'new' | null>(null)
const removing = ref<ProviderOf | null>(null)
const failed = ref<unknown>(null)
const isBusy = ref(false)
const ROLES: RoleName[] = ['administrator', 'auditor', 'reviewer', 'member']
const FIELDS: [keyof typeof EMPTY, string, string, string][] = [
  ['name', gettext('Name'), 'text', gettext('As people know it.')],
  ['issuer', gettext('Issuer'), 'url', gettext('Its address, as https://login.example.org')],
  ['client_id', gettext('Client'), 'text', gettext('What Open Latch is called there.')],
  ['client_secret', gettext('Secret'), 'password', gettext('Left empty, it stays as it is.')],
  ['address_claim', gettext('Claim with the address'), 'text', ''],
  ['acr', gettext('Contexts that count as a second factor'), 'text', gettext('Values of acr, with blanks between them.')],
  ['amr', gettext('Methods that count as a second factor'), 'text', gettext('Values of amr, as: otp hwk')],
  ['roles_claim', gettext('Claim with the role'), 'text', gettext('As groups. Empty: roles are given here.')],
]

function edit(row: ProviderOf | 'new'): void {
  editing.value = row
  failed.value = null
  const held = row === 'new' ? EMPTY : { ...row, client_secret: '', acr: row.acr.join(' '), amr: row.amr.join(' ') }
  for (const [field] of FIELDS) wish[field] = held[field]
  roles.value = row === 'new' ? [] : Object.entries(row.roles).map(([value, role]) => ({ value, role }))
}

const words = (written: string): string[] => written.split(/\s+/).filter(Boolean)

async function run(call: () => Promise<unknown>): Promise<void> {
  isBusy.value = true
  failed.value = null
  try {
    await proving(call)
    editing.value = removing.value = null
    void refetch()
  } catch (problem) {
    failed.value = problem
  } finally {
    isBusy.value = false
  }
}

function save(): void {
  const body = {
    ...wish,
    client_secret: wish.client_secret || null,
    acr: words(wish.acr),
    amr: words(wish.amr),
    roles: Object.fromEntries(roles.value.filter((one) => one.value).map((one) => [one.value, one.role])),
  }
  const row = editing.value
  void run(() => (row === 'new' || row === null ? send('POST', '/identity-providers', body) : send('PUT', `/identity-providers/${row.id}`, body)))
}
</script>

<template>
  <section :aria-label="gettext('Identity providers')" class="mt-6" data-test="providers">
    <div class="mb-2 flex flex-wrap items-center gap-3">
      <h2 class="flex-1 text-xl">{{ gettext('Identity providers') }}</h2>
      <button class="button" @click="edit('new')">{{ gettext('Add a provider') }}</button>
    </div>
    <StateNote :status="status" :error="error" @retry="refetch" />
    <p v-if="data && !data.rows.length" class="text-soft">{{ gettext('Everybody signs in with a password. With a provider (OpenID Connect) they sign in as they do elsewhere.') }}</p>
    <ul v-if="data?.rows.length" class="card divide-y divide-line">
      <li v-for="row in data.rows" :key="row.id" class="flex flex-wrap items-start gap-x-4 gap-y-1 px-5 py-3">
        <div class="min-w-60 flex-1">
          <p class="font-medium">{{ row.name }} <span class="font-normal text-soft">{{ row.issuer }}</span></p>
          <p class="text-sm text-soft">
            {{ gettext('%{count} signed in by it; %{acr}', { count: ngettext('%{n} person', '%{n} people', row.people), acr: row.acr.length || row.amr.length ? gettext('second factor asked for (%{value})', { value: [...row.acr, ...row.amr].join(', ') }) : gettext('no second factor asked for') }) }}<template v-if="row.roles_claim">{{ gettext('; roles by “%{roles_claim}”', { roles_claim: row.roles_claim }) }}</template>.
          </p>
          <p class="text-sm break-all text-soft">{{ gettext('Register there: redirect URI %{callback}, back-channel logout %{back_channel}', { callback: row.callback, back_channel: row.back_channel }) }}</p>
        </div>
        <button class="button" @click="edit(row)">{{ gettext('Edit') }}<span class="sr-only"> {{ row.name }}</span></button>
        <button class="button-end" @click="removing = row">{{ gettext('Remove') }}<span class="sr-only"> {{ row.name }}</span></button>
      </li>
    </ul>
    <ModalBox :open="editing !== null" :title="editing === 'new' ? gettext('Add an identity provider') : gettext('Edit the identity provider')" @close="editing = null">
      <form class="mt-3 space-y-3" @submit.prevent="save">
        <label v-for="[field, label, type, note] in FIELDS" :key="field" class="block font-semibold">
          {{ label }}
          <input v-model="wish[field]" :type="type" :required="['name', 'issuer', 'client_id'].includes(field)" autocomplete="off" class="field mt-1 font-normal" />
          <span v-if="note" class="text-sm font-normal text-soft">{{ note }}</span>
        </label>
        <fieldset v-if="wish.roles_claim">
          <legend class="font-semibold">{{ gettext('Roles') }}</legend>
          <div v-for="(one, index) in roles" :key="index" class="mt-1 flex gap-2">
            <input v-model="one.value" class="field flex-1" :aria-label="gettext('Value %{index} of the claim', { index: index + 1 })" :placeholder="gettext('latch-admins')" />
            <select v-model="one.role" class="field w-44" :aria-label="gettext('Role for value %{index}', { index: index + 1 })"><option v-for="role in ROLES" :key="role">{{ plain(role) }}</option></select>
            <button type="button" class="button" @click="roles.splice(index, 1)">{{ gettext('Remove') }}<span class="sr-only">{{ ` ${gettext('value %{index}', { index: index + 1 })}` }}</span></button>
          </div>
          <button type="button" class="button mt-1" @click="roles.push({ value: '', role: 'member' })">{{ gettext('Add a value') }}</button>
        </fieldset>
        <ProblemNote :error="failed" />
        <div class="flex justify-end gap-2"><button type="button" class="button" @click="editing = null">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="isBusy">{{ gettext('Save') }}</button></div>
      </form>
    </ModalBox>
    <ModalBox :open="removing !== null" :title="gettext('Remove %{removing}', { removing: removing?.name ?? '' })" @close="removing = null">
      <p class="mt-3">{{ gettext('Nobody signs in by it any more, and sessions that it has opened end. %{count} signed in by it; they set a password by “Forgotten your password?”.', { count: ngettext('%{n} person', '%{n} people', removing?.people ?? 0) }) }}</p>
      <ProblemNote :error="failed" />
      <div class="mt-4 flex justify-end gap-2"><button class="button" @click="removing = null">{{ gettext('Cancel') }}</button><button class="button-end" :disabled="isBusy" @click="run(() => send('DELETE', `/identity-providers/${removing!.id}`))">{{ gettext('Remove the provider') }}</button></div>
    </ModalBox>
  </section>
</template>
