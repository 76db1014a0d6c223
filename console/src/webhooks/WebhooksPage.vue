<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { WebhookOf } from '@/service/types'
import { moment } from '@/frame/words'
import DeliveriesBox from './DeliveriesBox.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ShownOnce from '@/frame/ShownOnce.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['webhooks'], query: () => get('/webhooks') })
const wish = reactive({ name: '', url: '', actions: '' })
const editing = ref<WebhookOf | 'new' | null>(null)
const removing = ref<WebhookOf | null>(null)
const shown = ref<string | null>(null)
const made = ref<{ name: string; key: string; secret: string } | null>(null)
const said = ref('')
const failed = ref<unknown>(null)
const isBusy = ref(false)

function edit(row: WebhookOf | 'new'): void {
  editing.value = row
  failed.value = null
  Object.assign(wish, row === 'new' ? { name: '', url: '', actions: '' } : { name: row.name, url: row.url, actions: row.actions.join(' ') })
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

function keep(answer: { webhook: WebhookOf; secret: string }): string {
  made.value = { name: answer.webhook.name, key: answer.webhook.key_id, secret: answer.secret }
  return ''
}

const save = () => run(async () => {
  const body = { name: wish.name, url: wish.url, actions: wish.actions.split(/[\s,]+/).filter(Boolean) }
  const row = editing.value
  if (row === 'new' || row === null) return keep(await send('POST', '/webhooks', body))
  await send('PUT', `/webhooks/${row.id}`, body)
  return gettext('%{body} is changed.', { body: body.name })
})
const rotate = (row: WebhookOf) => run(async () => keep(await send('POST', `/webhooks/${row.id}/secret`, { hours: 24 })))
const test = (row: WebhookOf) => run(async () => {
  await send('POST', `/webhooks/${row.id}/test`)
  shown.value = row.id
  return gettext('A test is on its way to %{row}.', { row: row.name })
})
const pause = (row: WebhookOf) => run(async () => {
  await send(row.paused_at ? 'DELETE' : 'PUT', `/webhooks/${row.id}/paused`)
  return row.paused_at ? gettext('%{row} goes on where it was paused.', { row: row.name }) : gettext('%{row} is paused. What happens meanwhile is told when it goes on.', { row: row.name })
})
const remove = (row: WebhookOf) => run(async () => {
  await send('DELETE', `/webhooks/${row.id}`)
  return gettext('%{row} is removed.', { row: row.name })
})
</script>

<template>
  <PageHead :title="gettext('Webhooks')" :about="gettext('Receivers that are told what is journalled, as it happens.')">
    <a href="/docs/how-to/webhooks.html" class="button">{{ gettext('How they are signed') }}</a>
    <button class="button-main" @click="edit('new')">{{ gettext('Add a webhook') }}</button>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ShownOnce v-if="made" :title="gettext('The secret of %{made} is shown only now.', { made: made.name })" :lines="[[gettext('Key id'), made.key], [gettext('Secret'), made.secret]]" @close="made = null" />
  <ProblemNote v-if="!editing && !removing" :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <p v-if="data && !data.rows.length" class="text-soft">{{ gettext('Nobody is told yet. A receiver gets each entry of the journal, or some kinds of them, as a signed message.') }}</p>
  <ul v-if="data?.rows.length" class="card divide-y divide-line" data-test="webhooks">
    <li v-for="row in data.rows" :key="row.id" class="px-5 py-3">
      <div class="flex flex-wrap items-start gap-x-4 gap-y-2">
        <div class="min-w-60 flex-1">
          <p class="font-medium">{{ row.name }} <span v-if="row.paused_at" class="font-normal text-soft">{{ gettext('(paused %{paused_at})', { paused_at: moment(row.paused_at) }) }}</span><span v-else-if="row.failing_since" class="font-normal text-rust">{{ gettext('takes nothing since %{failing_since}', { failing_since: moment(row.failing_since) }) }}</span></p>
          <p class="text-sm break-all text-soft">{{ row.url }}</p>
          <p class="text-sm text-soft">{{ gettext('Told %{actions}; %{count} waiting, %{given_up} given up.', { actions: row.actions.length ? row.actions.join(', ') : gettext('everything'), count: ngettext('%{n} delivery', '%{n} deliveries', row.waiting), given_up: row.given_up }) }}<template v-if="row.secret_before_until">{{ ` ${gettext('The secret before counts until %{secret_before_until}.', { secret_before_until: moment(row.secret_before_until) })}` }}</template></p>
        </div>
        <div class="flex flex-wrap gap-2">
          <button class="button" :aria-expanded="shown === row.id" @click="shown = shown === row.id ? null : row.id">{{ gettext('Deliveries') }}<span class="sr-only">{{ ` ${gettext('of %{row}', { row: row.name })}` }}</span></button>
          <button class="button" :disabled="isBusy || row.paused_at !== null" @click="test(row)">{{ gettext('Send a test') }}<span class="sr-only">{{ ` ${gettext('to %{row}', { row: row.name })}` }}</span></button>
          <button class="button" :disabled="isBusy" @click="pause(row)">{{ row.paused_at ? gettext('Resume') : gettext('Pause') }}<span class="sr-only"> {{ row.name }}</span></button>
          <button class="button" :disabled="isBusy" @click="rotate(row)">{{ gettext('New secret') }}<span class="sr-only">{{ ` ${gettext('for %{row}', { row: row.name })}` }}</span></button>
          <button class="button" @click="edit(row)">{{ gettext('Edit') }}<span class="sr-only"> {{ row.name }}</span></button>
          <button class="button-end" @click="removing = row">{{ gettext('Remove') }}<span class="sr-only"> {{ row.name }}</span></button>
        </div>
      </div>
      <DeliveriesBox v-if="shown === row.id" :webhook="row" />
    </li>
  </ul>
  <ModalBox :open="editing !== null" :title="editing === 'new' ? gettext('Add a webhook') : gettext('Edit the webhook')" @close="editing = null">
    <form class="mt-3 space-y-3" @submit.prevent="save">
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="wish.name" required maxlength="100" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('URL') }} <input v-model="wish.url" type="url" required :placeholder="gettext('https://receiver.example.org/open-latch')" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('What it is told') }} <input v-model="wish.actions" :placeholder="gettext('everything')" class="field mt-1 font-normal" /><span class="text-sm font-normal text-soft">{{ gettext('Actions or kinds of them, with blanks between: revocation grant.given') }}</span></label>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="editing = null">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="isBusy">{{ gettext('Save') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="removing !== null" :title="gettext('Remove %{removing}', { removing: removing?.name ?? '' })" @close="removing = null">
    <p class="mt-3">{{ gettext('Its receiver is told nothing any more; %{count} that wait are dropped.', { count: ngettext('%{n} delivery', '%{n} deliveries', removing?.waiting ?? 0) }) }}</p>
    <ProblemNote :error="failed" />
    <div class="mt-4 flex justify-end gap-2"><button class="button" @click="removing = null">{{ gettext('Cancel') }}</button><button class="button-end" :disabled="isBusy" @click="remove(removing!)">{{ gettext('Remove the webhook') }}</button></div>
  </ModalBox>
</template>
