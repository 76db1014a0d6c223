<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { SignalSourceOf } from '@/service/types'
import { moment } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ShownOnce from '@/frame/ShownOnce.vue'
import StateNote from '@/frame/StateNote.vue'
import ReceivedBox from './ReceivedBox.vue'
import ReceiversBox from './ReceiversBox.vue'
import { eventWords, reactionWords } from './events'

type Reaction = keyof typeof reactionWords

const { data, status, error, refetch } = useQuery({ key: ['signal-sources'], query: () => get('/signal-sources') })
const wish = reactive({ name: '', issuer: '', audience: '', token: '', polls: false, reactions: {} as Record<string, Reaction> })
const editing = ref<SignalSourceOf | 'new' | null>(null)
const removing = ref<SignalSourceOf | null>(null)
const made = ref<{ name: string; address: string; token: string } | null>(null)
const said = ref('')
const failed = ref<unknown>(null)
const isBusy = ref(false)

function edit(row: SignalSourceOf | 'new'): void {
  editing.value = row
  failed.value = null
  Object.assign(wish, { token: '', polls: false }, row === 'new' ? { name: '', issuer: '', audience: '', reactions: {} } : { name: row.name, issuer: row.issuer, audience: row.audience, reactions: { ...row.reactions } })
}

async function run(call: () => Promise<string>): Promise<void> {
  isBusy.value = true
  failed.value = null
  said.value = ''
  try {
    said.value = await proving(call)
    editing.value = removing.value = null
  } catch (problem) {
    failed.value = problem
  } finally {
    isBusy.value = false
    void refetch()
  }
}

const save = () => run(async () => {
  const row = editing.value
  const body = { ...wish, system: row === 'new' || row === null ? null : row.system?.id ?? null }
  if (row !== 'new' && row !== null) {
    await send('PUT', `/signal-sources/${row.id}`, body)
    return gettext('%{body} is changed.', { body: body.name })
  }
  const answer = await send('POST', '/signal-sources', body)
  if (answer.source.delivery !== 'by_hand') return gettext('A stream was made at %{issuer}.', { issuer: answer.source.issuer })
  made.value = { name: answer.source.name, address: answer.source.address, token: answer.token }
  return ''
})
const remove = (row: SignalSourceOf) => run(async () => {
  const { left } = await send('DELETE', `/signal-sources/${row.id}`)
  return [gettext('%{row} is removed.', { row: row.name }), left ? gettext('Its stream could not be deleted there; delete it at %{issuer}.', { issuer: row.issuer }) : ''].join(' ')
})
const does = (row: SignalSourceOf) => Object.entries(row.reactions).filter(([, reaction]) => reaction !== 'ignore').map(([event, reaction]) => `${eventWords(event)}: ${reactionWords[reaction as Reaction]}`).join('; ')
</script>

<template>
  <PageHead docs="how-to/signals" :title="gettext('Signals')" :about="gettext('Security events about people: what other services report, and what they receive from here.')">
    <button class="button-main" @click="edit('new')">{{ gettext('Add a source') }}</button>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ShownOnce v-if="made" :title="gettext('The token of %{made} is shown only now.', { made: made.name })" :lines="[[gettext('Address'), made.address], [gettext('Token'), made.token]]" @close="made = null" />
  <ProblemNote v-if="!editing && !removing" :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <p v-if="data && !data.sources.length" class="text-soft">{{ gettext('No service reports any yet. Identity providers and other services that support the Shared Signals Framework can.') }}</p>
  <ul v-if="data?.sources.length" class="card divide-y divide-line" data-test="signal-sources">
    <li v-for="row in data.sources" :key="row.id" class="flex flex-wrap items-start gap-x-4 gap-y-2 px-5 py-3">
      <div class="min-w-60 flex-1">
        <p class="font-medium">{{ row.name }} <span class="font-normal text-soft">{{ row.heard_at ? gettext('last event %{at}', { at: moment(row.heard_at) }) : gettext('no event yet') }}</span></p>
        <p class="text-sm break-all text-soft">{{ row.issuer }}</p>
        <p v-if="row.failed" class="text-sm text-rust">{{ gettext('Its events could not be fetched: %{failed}', { failed: row.failed }) }}</p>
        <p class="text-sm text-soft">{{ does(row) || gettext('Its events are only recorded.') }}</p>
      </div>
      <div class="flex flex-wrap gap-2">
        <button class="button" @click="edit(row)">{{ gettext('Edit') }}<span class="sr-only"> {{ row.name }}</span></button>
        <button class="button-end" @click="removing = row">{{ gettext('Remove') }}<span class="sr-only"> {{ row.name }}</span></button>
      </div>
    </li>
  </ul>
  <ReceivedBox />
  <ReceiversBox />
  <ModalBox :open="editing !== null" :title="editing === 'new' ? gettext('Add a source') : gettext('Edit the source')" @close="editing = null">
    <form class="mt-3 space-y-3" @submit.prevent="save">
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="wish.name" required maxlength="100" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('Issuer') }} <input v-model="wish.issuer" type="url" required :placeholder="gettext('https://login.example.org')" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('Audience') }} <input v-model="wish.audience" :placeholder="gettext('this service’s address')" class="field mt-1 font-normal" /></label>
      <template v-if="editing === 'new'">
        <label class="block font-semibold">{{ gettext('Its token for making streams') }} <input v-model="wish.token" type="password" autocomplete="off" :placeholder="gettext('left out: its stream is set up there by hand')" class="field mt-1 font-normal" /></label>
        <label v-if="wish.token" class="flex items-center gap-2"><input v-model="wish.polls" type="checkbox" /> {{ gettext('Fetch its events, where it can’t reach this service') }}</label>
      </template>
      <fieldset class="space-y-1">
        <legend class="font-semibold">{{ gettext('What happens when it reports') }}</legend>
        <label v-for="event in Object.keys(data?.events ?? {})" :key="event" class="grid items-center gap-2 sm:grid-cols-2">{{ eventWords(event) }}
          <select v-model="wish.reactions[event]" class="field"><option :value="undefined">{{ gettext('the usual') }}</option><option v-for="(words, reaction) in reactionWords" :key="reaction" :value="reaction">{{ words }}</option></select>
        </label>
      </fieldset>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="editing = null">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="isBusy">{{ gettext('Save') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="removing !== null" :title="gettext('Remove %{removing}', { removing: removing?.name ?? '' })" @close="removing = null">
    <p class="mt-3">{{ gettext('Its events are refused from now on. What was done because of them stays.') }}</p>
    <ProblemNote :error="failed" />
    <div class="mt-4 flex justify-end gap-2"><button class="button" @click="removing = null">{{ gettext('Cancel') }}</button><button class="button-end" :disabled="isBusy" @click="remove(removing!)">{{ gettext('Remove the source') }}</button></div>
  </ModalBox>
</template>
