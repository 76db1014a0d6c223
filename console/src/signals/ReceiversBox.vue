<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { SignalReceiverOf } from '@/service/types'
import { moment } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ShownOnce from '@/frame/ShownOnce.vue'
import StateNote from '@/frame/StateNote.vue'
import SentBox from './SentBox.vue'
import { eventWords, statusWords } from './events'

const { data, status, error, refetch } = useQuery({ key: ['signal-receivers'], query: () => get('/signal-receivers') })
const wish = reactive({ name: '', audience: '' })
const isAdding = ref(false)
const removing = ref<SignalReceiverOf | null>(null)
const shown = ref<string | null>(null)
const made = ref<{ name: string; configuration: string; token: string } | null>(null)
const said = ref('')
const failed = ref<unknown>(null)
const isBusy = ref(false)

function begin(): void {
  isAdding.value = true
  failed.value = null
  Object.assign(wish, { name: '', audience: '' })
}

async function run(call: () => Promise<string>): Promise<void> {
  isBusy.value = true
  failed.value = null
  said.value = ''
  try {
    said.value = await proving(call)
    isAdding.value = false
    removing.value = null
  } catch (problem) {
    failed.value = problem
  } finally {
    isBusy.value = false
    void refetch()
  }
}

const add = () => run(async () => {
  const answer = await send('POST', '/signal-receivers', { ...wish })
  made.value = { name: answer.receiver.name, configuration: answer.configuration, token: answer.token }
  return ''
})
const verify = (row: SignalReceiverOf) => run(async () => {
  await send('POST', `/signal-receivers/${row.id}/verify`)
  shown.value = row.id
  return gettext('A test is on its way to %{row}.', { row: row.name })
})
const hold = (row: SignalReceiverOf) => run(async () => {
  if (row.status === 'enabled') {
    await send('PUT', `/signal-receivers/${row.id}/paused`, { reason: '' })
    return gettext('%{row} is paused. What happens meanwhile is sent when it goes on.', { row: row.name })
  }
  await send('DELETE', `/signal-receivers/${row.id}/paused`)
  return gettext('%{row} goes on where it was paused.', { row: row.name })
})
const remove = (row: SignalReceiverOf) => run(async () => {
  await send('DELETE', `/signal-receivers/${row.id}`)
  return gettext('%{row} is removed.', { row: row.name })
})
const gets = (row: SignalReceiverOf) => row.events.map(eventWords).join('; ')
</script>

<template>
  <section class="mt-8" aria-labelledby="receivers">
    <div class="mb-2 flex flex-wrap items-center gap-3">
      <h2 id="receivers" class="flex-1 text-xl">{{ gettext('Sent to others') }}</h2>
      <button class="button" @click="begin">{{ gettext('Add a receiver') }}</button>
    </div>
    <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
    <ShownOnce v-if="made" :title="gettext('The token of %{made} is shown only now.', { made: made.name })" :lines="[[gettext('Configuration'), made.configuration], [gettext('Token'), made.token]]" @close="made = null" />
    <ProblemNote v-if="!isAdding && !removing" :error="failed" class="mb-3" />
    <StateNote :status="status" :error="error" @retry="refetch" />
    <p v-if="data && !data.receivers.length" class="text-soft">{{ gettext('Nobody receives any yet. A service that supports the Shared Signals Framework can end its own sessions when access ends here.') }}</p>
    <ul v-if="data?.receivers.length" class="card divide-y divide-line" data-test="signal-receivers">
      <li v-for="row in data.receivers" :key="row.id" class="px-5 py-3">
        <div class="flex flex-wrap items-start gap-x-4 gap-y-2">
          <div class="min-w-60 flex-1">
            <p class="font-medium">{{ row.name }} <span class="font-normal text-soft">{{ statusWords[row.status] }}</span> <span v-if="row.failing_since" class="font-normal text-rust">{{ gettext('takes nothing since %{failing_since}', { failing_since: moment(row.failing_since) }) }}</span></p>
            <p v-if="row.delivery === 'push'" class="text-sm break-all text-soft">{{ gettext('Events are sent to %{address}', { address: row.address }) }}</p>
            <p v-else-if="row.delivery === 'poll'" class="text-sm text-soft">{{ row.heard_at ? gettext('It fetches events, last %{at}', { at: moment(row.heard_at) }) : gettext('It fetches events, and has not yet') }}</p>
            <p v-if="row.events.length" class="text-sm text-soft">{{ gets(row) }}</p>
            <p v-if="row.status !== 'not_set_up'" class="text-sm text-soft">{{ gettext('%{waiting} waiting, %{given_up} given up', { waiting: ngettext('%{n} event', '%{n} events', row.waiting), given_up: row.given_up }) }}</p>
          </div>
          <div class="flex flex-wrap gap-2">
            <button class="button" :aria-expanded="shown === row.id" @click="shown = shown === row.id ? null : row.id">{{ gettext('Events') }}<span class="sr-only">{{ ` ${gettext('of %{row}', { row: row.name })}` }}</span></button>
            <button v-if="row.status === 'enabled'" class="button" :disabled="isBusy" @click="verify(row)">{{ gettext('Send a test') }}<span class="sr-only">{{ ` ${gettext('to %{row}', { row: row.name })}` }}</span></button>
            <button v-if="row.status === 'enabled' || row.status === 'paused'" class="button" :disabled="isBusy" @click="hold(row)">{{ row.status === 'paused' ? gettext('Resume') : gettext('Pause') }}<span class="sr-only"> {{ row.name }}</span></button>
            <button class="button-end" @click="removing = row">{{ gettext('Remove') }}<span class="sr-only"> {{ row.name }}</span></button>
          </div>
        </div>
        <SentBox v-if="shown === row.id" :receiver="row" />
      </li>
    </ul>
    <ModalBox :open="isAdding" :title="gettext('Add a receiver')" @close="isAdding = false">
      <form class="mt-3 space-y-3" @submit.prevent="add">
        <p>{{ gettext('It gets a token by which it makes its own stream: which events, and whether they are sent to it or fetched.') }}</p>
        <label class="block font-semibold">{{ gettext('Name') }} <input v-model="wish.name" required maxlength="100" class="field mt-1 font-normal" /></label>
        <label class="block font-semibold">{{ gettext('Audience') }} <input v-model="wish.audience" :placeholder="gettext('made here; set it if the receiver asks for its own')" class="field mt-1 font-normal" /></label>
        <ProblemNote :error="failed" />
        <div class="flex justify-end gap-2"><button type="button" class="button" @click="isAdding = false">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="isBusy">{{ gettext('Save') }}</button></div>
      </form>
    </ModalBox>
    <ModalBox :open="removing !== null" :title="gettext('Remove %{removing}', { removing: removing?.name ?? '' })" @close="removing = null">
      <p class="mt-3">{{ gettext('Its token is refused from now on, and what waits for it is deleted.') }}</p>
      <ProblemNote :error="failed" />
      <div class="mt-4 flex justify-end gap-2"><button class="button" @click="removing = null">{{ gettext('Cancel') }}</button><button class="button-end" :disabled="isBusy" @click="remove(removing!)">{{ gettext('Remove the receiver') }}</button></div>
    </ModalBox>
  </section>
</template>
