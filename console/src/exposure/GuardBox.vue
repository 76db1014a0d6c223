<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { ExposureChanges, GuardRow } from '@/service/types'

import RecordPicker from '@/records/RecordPicker.vue'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const emit = defineEmits<{ changed: [] }>()
const { data, refetch } = useQuery({ key: ['exposure_guards'], query: () => get('/exposure-guards') })
const isSetting = ref(false)
const lifting = ref<GuardRow | null>(null)
const changes = ref<ExposureChanges | null>(null)
const error = ref<unknown>(null)
const wish = reactive({ account: '', rights: ['change'], organisation: '', reason: '' })
const IN_SYSTEM: Record<string, string> = {
  waiting: gettext('is being set'), set: gettext('shows it'), off: gettext('has it no more: it was switched off there'), failed: gettext('could not be given it'),
}
const RIGHTS = [
  { right: 'see', label: gettext('see anything') },
  { right: 'change', label: gettext('change anything') },
  { right: 'administer', label: gettext('decide who gets in') },
]

function body(): Record<string, unknown> {
  const but = wish.organisation.trim() ? [{ organisation: wish.organisation.trim() }] : []
  return { account: wish.account || null, rights: wish.rights, but, reason: wish.reason }
}

async function run(call: () => Promise<unknown>): Promise<boolean> {
  error.value = null
  try {
    await call()
    return true
  } catch (failed) {
    error.value = failed
    return false
  }
}
let asked = 0
async function look(): Promise<void> {
  const turn = ++asked
  changes.value = null
  if (!wish.rights.length) return
  await run(async () => {
    const found = await send('POST', '/exposure-guards/preview', body())
    // An answer to an earlier question may come late.
    if (turn === asked) changes.value = found
  })
}
async function begin(): Promise<void> {
  Object.assign(wish, { account: '', rights: ['change'], organisation: '', reason: '' })
  isSetting.value = true
  await look()
}
async function set(): Promise<void> {
  if (await run(() => send('POST', '/exposure-guards', { ...body(), fingerprint: changes.value?.fingerprint ?? '' }))) over()
}
async function askLift(guard: GuardRow): Promise<void> {
  wish.reason = ''
  changes.value = null
  lifting.value = guard
  await run(async () => (changes.value = await send('POST', `/exposure-guards/${guard.id}/lift/preview`)))
}
async function lift(): Promise<void> {
  const ident = lifting.value!.id
  if (await run(() => proving(() => send('POST', `/exposure-guards/${ident}/lift`, { reason: wish.reason, fingerprint: changes.value?.fingerprint ?? '' })))) over()
}
async function setAgain(guard: GuardRow): Promise<void> {
  if (await run(() => send('POST', `/exposure-guards/${guard.id}/set-again`))) over()
}
function over(): void {
  isSetting.value = false
  lifting.value = null
  void refetch()
  emit('changed')
}
</script>

<template>
  <section class="card p-5" aria-labelledby="guards">
    <div class="flex flex-wrap items-center gap-3">
      <h2 id="guards" class="mr-auto text-xl">{{ gettext('Guards') }}</h2>
      <button v-if="me?.administrator || me?.owner" class="button-main" @click="begin">{{ gettext('Set a guard') }}</button>
    </div>
    <p class="text-soft">{{ gettext('A guard says what must not be open to outsiders. What is open against it is flagged, and rules that would break it are not set. Systems that have a guard of their own are told of a guard on every account, and keep shut what it forbids.') }}</p>
    <ProblemNote v-if="!isSetting && !lifting" :error="error" />
    <ul v-if="data?.guards.length" class="mt-2 divide-y divide-line">
      <li v-for="guard in data.guards" :key="guard.id" class="flex flex-wrap items-center gap-3 py-2">
        <span class="flex-1">{{ guard.sentence }} <span class="text-soft">“{{ guard.reason }}” {{ guard.made_by }}</span>
          <span v-for="told in guard.systems" :key="told.system.id" class="block" :class="told.state === 'set' || told.state === 'waiting' ? 'text-soft' : 'font-semibold text-rust'">{{ told.system.name }} {{ IN_SYSTEM[told.state] }}{{ told.state === 'failed' ? `: ${told.words}` : '.' }}</span>
        </span>
        <button v-if="guard.systems?.some((told) => told.state === 'off' || told.state === 'failed')" class="button" @click="setAgain(guard)">{{ gettext('Set it again') }}<span class="sr-only">: {{ guard.sentence }}</span></button>
        <button class="button-end" @click="askLift(guard)">{{ gettext('Lift') }}<span class="sr-only">: {{ guard.sentence }}</span></button>
      </li>
    </ul>
    <p v-else class="mt-2">{{ gettext('There is no guard.') }}</p>
    <ModalBox :open="isSetting || lifting !== null" :title="lifting ? gettext('Lift: %{guard}', { guard: lifting.sentence }) : gettext('Set a guard')" @close="isSetting = false; lifting = null">
      <form class="mt-3 space-y-4" @submit.prevent="lifting ? lift() : set()">
        <template v-if="!lifting">
          <label class="block font-semibold">{{ gettext('On') }}
            <RecordPicker of="accounts" :label="gettext('On')" class="mt-1" :placeholder="gettext('every account')" :model-value="wish.account || null" @update:model-value="wish.account = $event ?? ''; look()" />
          </label>
          <fieldset @change="look">
            <legend class="font-semibold">{{ gettext('No outsider may') }}</legend>
            <label v-for="one in RIGHTS" :key="one.right" class="mt-1 flex items-center gap-2"><input v-model="wish.rights" type="checkbox" :value="one.right" class="accent-moss" /> {{ one.label }}</label>
          </fieldset>
          <label class="block font-semibold">{{ gettext('Except everyone of this organisation') }} <input v-model="wish.organisation" class="field mt-1 font-normal" :placeholder="gettext('survey.example.net')" @change="look" /></label>
        </template>
        <div v-if="changes" data-test="against">
          <p class="font-semibold">{{ gettext('%{count} against %{lifting} now', { count: ngettext('%{n} exposure', '%{n} exposures', changes.forbidden), lifting: lifting ? gettext('it') : gettext('such a guard') }) }}</p>
          <ul class="mt-1 list-disc pl-5"><li v-for="line in changes.lines" :key="line.account.id + (line.resource?.id ?? '') + line.right">{{ line.sentence }} <span class="text-soft">{{ line.account.name }}</span></li></ul>
          <p v-if="changes.more" class="text-soft">{{ gettext('And %{more} more.', { more: changes.more }) }}</p>
          <p v-if="changes.systems?.length" class="mt-1">{{ gettext('It will also be set in %{systems}, and keeps shut what is there.', { systems: changes.systems.join(gettext(' and ')) }) }}</p>
        </div>
        <label class="block font-semibold">{{ gettext('Why') }} <input v-model="wish.reason" :required="!lifting" class="field mt-1 font-normal" /></label>
        <ProblemNote :error="error" />
        <div class="flex justify-end gap-2">
          <button type="button" class="button" @click="isSetting = false; lifting = null">{{ gettext('Cancel') }}</button>
          <button :class="lifting ? 'button-end' : 'button-main'" :disabled="!changes">{{ lifting ? gettext('Lift the guard') : gettext('Set the guard') }}</button>
        </div>
      </form>
    </ModalBox>
  </section>
</template>
