<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'

import { get, getText, send, sendFile } from '@/service/api'
import { proving } from '@/identity/proof'
import type { TeamRow } from '@/service/types'
import { saveText } from '@/records/files'
import RecordPicker from '@/records/RecordPicker.vue'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import LatchBox from '@/latches/LatchBox.vue'
import CharterBox from './CharterBox.vue'
import MailBox from './MailBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const settings = useQuery({ key: ['settings'], query: () => get('/settings') })
const teams = useQuery({ key: ['teams', 'speakers'], query: () => get('/teams', { limit: 200 }) })
const accounts = useQuery({ key: ['accounts', 'kinds'], query: () => get('/accounts', { limit: 500 }) })
const kinds = computed(() => [...new Set((accounts.data.value?.rows ?? []).map((row) => row.kind))].sort())
const ending = ref<TeamRow | null>(null)
const kind = ref('')
const form = reactive({ offer_hours: 48, domains: '', prerequisites: [] as string[], auditors: '', remind: '', keep_left: 0, deactivated: 'ask' as 'ask' | 'at_once' })
const error = ref<unknown>(null)
const said = ref('')

watch(settings.data, (found) => {
  if (found) Object.assign(form, { offer_hours: found.offer_hours, domains: found.inside_domains.join(', '), prerequisites: [...found.prerequisites], auditors: found.auditors.join(', '), remind: found.remind_days.join(', '), keep_left: found.keep_left_months ?? 0, deactivated: found.when_deactivated })
}, { immediate: true })

async function keep(call: () => Promise<unknown>): Promise<void> {
  error.value = null
  said.value = ''
  try {
    await call()
    said.value = gettext('Kept.')
  } catch (failed) {
    error.value = failed
  }
}
const split = (text: string) => text.split(',').map((part) => part.trim()).filter(Boolean)
const save = () => keep(() => send('PUT', '/settings', { offer_hours: form.offer_hours, inside_domains: split(form.domains), prerequisites: form.prerequisites, auditors: split(form.auditors), remind_days: split(form.remind).map(Number), keep_left_months: form.keep_left, when_deactivated: form.deactivated }))
/** After a fresh proof; the browser then saves the file as it comes. */
const takeRegister = () => keep(async () => {
  const name = `register-${new Date().toISOString().slice(0, '2026-03-31'.length)}.jsonl`
  saveText(name, await proving(() => getText('/register/export')), 'application/jsonl')
})
const bringRegister = (file: File | undefined) => keep(async () => {
  if (file) await proving(() => sendFile('/register/import', {}, file))
})
const setSpeaker = (team: TeamRow, speaker: string) => keep(() => send('PUT', `/teams/${team.id}/speaker`, { speaker: speaker || null }))
</script>

<template>
  <PageHead docs="how-to/run-it" :title="gettext('Settings')" :about="gettext('How the organisation gives access.')" />
  <StateNote :status="settings.status.value" :error="settings.error.value" @retry="settings.refetch()" />
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="error" />
  <div class="grid items-start gap-5 lg:grid-cols-2">
    <form class="card space-y-4 p-5" @submit.prevent="save">
      <h2 class="text-xl">{{ gettext('Offers') }}</h2>
      <label class="block font-semibold">{{ gettext('Hours until an offer expires') }} <input v-model.number="form.offer_hours" type="number" min="1" max="2160" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('Domains whose addresses are inside') }} <input v-model="form.domains" class="field mt-1 font-normal" :placeholder="gettext('example.org, example.net')" /></label>
      <fieldset>
        <legend class="font-semibold">{{ gettext('To accept, everybody needs') }}</legend>
        <label class="block"><input v-model="form.prerequisites" type="checkbox" value="confirmed_address" class="accent-moss" /> {{ gettext('a confirmed address') }}</label>
        <label class="block"><input v-model="form.prerequisites" type="checkbox" value="second_factor" class="accent-moss" /> {{ gettext('a second factor') }}</label>
      </fieldset>
      <label class="block font-semibold">{{ gettext('Auditors who get the journal’s signed head by mail each day') }} <input v-model="form.auditors" class="field mt-1 font-normal" :placeholder="gettext('audit@example.net')" /></label>
      <label class="block font-semibold">{{ gettext('Days before access ends when people are notified') }} <input v-model="form.remind" class="field mt-1 font-normal" placeholder="14, 3" inputmode="numeric" /></label>
      <label class="block font-semibold">{{ gettext('Months after leaving before people are erased') }} <span class="font-normal text-soft">{{ gettext('(0: never by itself)') }}</span><input v-model.number="form.keep_left" type="number" min="0" max="240" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('When a directory switches somebody off') }}<select v-model="form.deactivated" class="field mt-1 font-normal"><option value="ask">{{ gettext('ask administrators what becomes of their access') }}</option><option value="at_once">{{ gettext('end all that they have at once') }}</option></select></label>
      <button class="button-main">{{ gettext('Save') }}</button>
    </form>
    <MailBox />
    <section class="card p-5" aria-labelledby="speakers">
      <h2 id="speakers" class="text-xl">{{ gettext('Who answers for a team') }}</h2>
      <p class="mb-3 text-soft">{{ gettext('They answer offers to it.') }}</p>
      <div v-for="team in teams.data.value?.rows ?? []" :key="team.id" class="mt-2 grid items-center gap-2 sm:grid-cols-[1fr_1fr_auto]">
        <span>{{ team.name }}</span>
        <RecordPicker of="people" :label="gettext('Who answers for %{team}', { team: team.name })" :placeholder="gettext('Nobody')" filter="standing ne &quot;left&quot; and address pr" :named="team.speaker?.name" :model-value="team.speaker?.id ?? null" @update:model-value="setSpeaker(team, $event ?? '')" />
        <button class="button-end" :disabled="!team.grants" @click="ending = team">{{ gettext('End its %{count}', { count: ngettext('%{n} grant', '%{n} grants', team.grants) }) }}<span class="sr-only">{{ ` ${gettext('of %{team}', { team: team.name })}` }}</span></button>
      </div>
      <ChangeDialog :open="ending !== null" :filter="`holder.id eq &quot;${ending?.id}&quot;`" only="end" :title="gettext('End all access of %{ending}', { ending: ending?.name })" @close="ending = null" @done="teams.refetch()" />
    </section>
    <section class="card space-y-2 p-5" aria-labelledby="whole">
      <h2 id="whole" class="text-xl">{{ gettext('The whole register') }}</h2>
      <p class="text-soft">{{ gettext('Everything except secrets, flags and the journal in one open file, for moving elsewhere or starting again. It contains personal data: keep it safe.') }}</p>
      <p class="flex flex-wrap gap-2"><button type="button" class="button" @click="takeRegister">{{ gettext('Export') }}</button><a class="button" href="/api/v1/register/schema" download="register.schema.json">{{ gettext('Its format') }}</a></p>
      <label class="block font-semibold">{{ gettext('Import') }} <span class="font-normal text-soft">{{ gettext('(only into an organisation that is empty yet)') }}</span><input type="file" accept=".jsonl" class="field mt-1 font-normal" @change="bringRegister(($event.target as HTMLInputElement).files?.[0])" /></label>
    </section>
    <CharterBox />
    <section class="card p-5 lg:col-span-2" aria-labelledby="kinds">
      <h2 id="kinds" class="text-xl">{{ gettext('Latches on all accounts of a kind') }}</h2>
      <label class="mt-2 mb-3 block max-w-xs font-semibold">{{ gettext('Kind') }} <input v-model.lazy="kind" list="known-kinds" class="field mt-1 font-normal" :placeholder="gettext('mailbox')" /><datalist id="known-kinds"><option v-for="one in kinds" :key="one" :value="one" /></datalist></label>
      <LatchBox v-if="kind" :key="kind" :account-kind="kind" />
    </section>
  </div>
</template>
