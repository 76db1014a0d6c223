<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import { gettext, ngettext, pgettext } from '@/frame/language'
import { watchDebounced } from '@vueuse/core'

import { CallFailed, get, getAs, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { RecordAccessPreview, Rows } from '@/service/types'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'

import RecordPicker from './RecordPicker.vue'

/** Writes down access that exists: one by one, or as a table that is pasted in and checked as one types. */
const props = defineProps<{ open: boolean; account?: { id: string; name: string; system: { id: string | null } } | null }>()
const emit = defineEmits<{ close: []; done: [] }>()
interface Line { account: string; holder_kind: string; holder: string; level: string; since: string; last_day: string; given_by: string; evidence: string }
const EMPTY: Line = { account: '', holder_kind: 'person', holder: '', level: '', since: '', last_day: '', given_by: '', evidence: '' }
const LISTS: Record<string, string> = { person: 'people', team: 'teams', app: 'apps', account: 'accounts' }
const COLUMNS = ['account', 'holder', 'level', 'since', 'last_day', 'given_by', 'evidence'] as const

const how = ref<'one' | 'table'>('one')
const line = reactive<Line>({ ...EMPTY })
const system = ref('')
const table = ref('')
const named = reactive<Record<string, string>>({})
const faults = ref<string[]>([])
const lines = ref<Line[]>([])
const preview = ref<RecordAccessPreview | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const isReading = ref(false)

watch(() => props.open, (open) => {
  if (!open) return
  Object.assign(line, EMPTY, { account: props.account?.id ?? '' })
  system.value = props.account?.system.id ?? ''
  if (props.account) named[props.account.id] = props.account.name
  table.value = ''
  lines.value = []
  faults.value = []
  preview.value = null
  error.value = null
}, { immediate: true })
watch(() => line.account, async (ident) => {
  if (!ident || ident === props.account?.id) return
  line.level = ''
  const found = await get('/accounts', { filter: `id eq "${ident}"`, limit: 1 })
  system.value = found.rows[0]?.system.id ?? ''
})
watch([line, how], () => {
  preview.value = null
  lines.value = how.value === 'one' && line.account && line.holder && line.level ? [{ ...line }] : []
})
watch(table, () => (preview.value = null))
watchDebounced(table, () => read(), { debounce: 400 })

/** A table as spreadsheets give it: cells apart by tabs, commas or semicolons, perhaps with a first line of names. */
function cells(): string[][] {
  return table.value.split(/\r?\n/).filter((row) => row.trim()).map((row) => row.split(row.includes('\t') ? '\t' : row.includes(';') ? ';' : ',').map((cell) => cell.trim().replace(/^"|"$/g, '')))
}

async function byName(list: string, name: string, filter = ''): Promise<string | null> {
  const key = `${list} ${filter} ${name.toLowerCase()}`
  if (key in named) return named[key] || null
  const exact = `name eq ${JSON.stringify(name)}${filter ? ` and ${filter}` : ''}`
  const or = list === 'people' ? `(${exact} or address eq ${JSON.stringify(name)})` : exact
  const found = await getAs<Rows<{ id: string }>>(`/${list}`, { filter: or, limit: 2 })
  named[key] = found.rows.length === 1 ? found.rows[0]!.id : ''
  return named[key] || null
}

async function read(): Promise<void> {
  const rows = cells()
  if (rows[0]?.some((cell) => ['account', 'holder', 'level'].includes(cell.toLowerCase()))) rows.shift()
  isReading.value = true
  const good: Line[] = []
  const bad: string[] = []
  try {
    for (const [index, row] of rows.entries()) {
      const given = Object.fromEntries(COLUMNS.map((name, place) => [name, row[place] ?? ''])) as Record<(typeof COLUMNS)[number], string>
      const account = props.account ? props.account.id : await byName('accounts', given.account)
      const of = account && account !== props.account?.id ? (await get('/accounts', { filter: `id eq "${account}"`, limit: 1 })).rows[0]?.system.id : props.account?.system.id
      const holder = (await byName('people', given.holder)) ?? (await byName('teams', given.holder)) ?? (await byName('apps', given.holder))
      const kind = holder && holder === (await byName('people', given.holder)) ? 'person' : holder === (await byName('teams', given.holder)) ? 'team' : 'app'
      const level = of ? await byName('levels', given.level, `system.id eq "${of}"`) : null
      const giver = given.given_by ? await byName('people', given.given_by) : ''
      const lacks = [!account && gettext('no account “%{account}”', { account: given.account }), !holder && gettext('nobody called “%{holder}”', { holder: given.holder }), account && !level && gettext('no level “%{level}” there', { level: given.level }), given.given_by && !giver && gettext('nobody called “%{given_by}”', { given_by: given.given_by })].filter(Boolean)
      if (lacks.length) bad.push(gettext('Line %{index}: %{lacks}.', { index: index + 1, lacks: lacks.join(', ') }))
      else good.push({ account: account!, holder_kind: kind, holder: holder!, level: level!, since: given.since, last_day: given.last_day, given_by: giver ?? '', evidence: given.evidence })
    }
  } catch (failed) {
    error.value = failed
  }
  faults.value = bad
  lines.value = good
  isReading.value = false
  if (good.length && !bad.length) await look()
}

const body = () => ({ lines: lines.value.map((one) => Object.fromEntries(Object.entries(one).map(([name, value]) => [name, value === '' && name !== 'evidence' ? null : value]))) })

async function attempt(call: () => Promise<void>): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await call()
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) preview.value = null
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
const look = () => attempt(async () => { preview.value = await send('POST', '/grants/record/preview', body()) })
const keep = () => attempt(async () => {
  await proving(() => send('POST', '/grants/record', { ...body(), fingerprint: preview.value!.fingerprint }))
  emit('done')
  emit('close')
})
const canKeep = computed(() => preview.value !== null && !preview.value.refused && preview.value.new > 0)
</script>

<template>
  <ModalBox :open="open" :title="account ? gettext('Record who has access to %{account}', { account: account.name }) : gettext('Record access that exists')" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="canKeep ? keep() : look()">
      <p class="text-soft">{{ gettext('For what is there already. Nobody is asked; it is marked as recorded by you, not as given by you.') }}</p>
      <div class="flex gap-1" role="group" :aria-label="gettext('How')">
        <button type="button" class="rounded-full border px-3 py-1" :class="how === 'one' ? 'border-moss bg-moss text-moss-ink' : 'border-line'" :aria-pressed="how === 'one'" @click="how = 'one'">{{ gettext('One') }}</button>
        <button type="button" class="rounded-full border px-3 py-1" :class="how === 'table' ? 'border-moss bg-moss text-moss-ink' : 'border-line'" :aria-pressed="how === 'table'" @click="how = 'table'">{{ gettext('Paste a table') }}</button>
      </div>
      <template v-if="how === 'one'">
        <div v-if="!account"><label for="known-account" class="font-semibold">{{ gettext('Account') }}</label><RecordPicker id="known-account" v-model="line.account" of="accounts" :label="gettext('Account')" class="mt-1" /></div>
        <div class="grid gap-3 sm:grid-cols-[10rem_1fr]">
          <label class="font-semibold">{{ gettext('Held by') }} <select v-model="line.holder_kind" class="field mt-1 font-normal" @change="line.holder = ''"><option value="person">{{ gettext('a person') }}</option><option value="team">{{ gettext('a team') }}</option><option value="app">{{ gettext('an app') }}</option><option value="account">{{ gettext('an account') }}</option></select></label>
          <div><label for="known-holder" class="font-semibold">{{ gettext('Who') }}</label><RecordPicker id="known-holder" :key="line.holder_kind" v-model="line.holder" :of="LISTS[line.holder_kind]!" :label="gettext('Who')" class="mt-1" /></div>
        </div>
        <div><label for="known-level" class="font-semibold">{{ gettext('Level') }}</label><RecordPicker id="known-level" :key="system" v-model="line.level" of="levels" :label="gettext('Level')" class="mt-1" :filter="`system.id eq &quot;${system}&quot; and single eq false`" :disabled="!system" /></div>
        <div class="grid gap-3 sm:grid-cols-3">
          <DayField v-model="line.since" past :label="gettext('Since')" />
          <DayField v-model="line.last_day" end :label="gettext('Last day')" />
          <div><label for="known-giver" class="font-semibold">{{ gettext('Given by') }}</label><RecordPicker id="known-giver" v-model="line.given_by" of="people" :label="gettext('Given by')" class="mt-1" /></div>
        </div>
        <label class="block font-semibold">{{ gettext('How you know') }} <input v-model="line.evidence" class="field mt-1 font-normal" :placeholder="gettext('Seen in the mailbox’s list of members')" /></label>
      </template>
      <div v-else>
        <label for="known-table" class="font-semibold">{{ gettext('The table') }}</label>
        <p class="text-soft">{{ gettext('A line for each, from a spreadsheet or with commas: %{account}who, level, since, last day, given by, how you know. Days as 2026-03-31.', { account: account ? gettext('(anything), ') : gettext('account, ') }) }}</p>
        <textarea id="known-table" v-model="table" rows="7" class="field mt-1 font-mono text-sm" spellcheck="false" />
        <p role="status" class="text-soft">{{ isReading ? gettext('Checking…') : table ? gettext('%{count} can be read', { count: ngettext('%{n} line', '%{n} lines', lines.length) }) : '' }}</p>
        <ul v-if="faults.length" role="alert" class="text-rust"><li v-for="fault in faults" :key="fault">{{ fault }}</li></ul>
      </div>
      <div v-if="preview" class="max-h-64 overflow-y-auto rounded-md bg-sunk p-3" data-test="known-preview">
        <p class="font-semibold">{{ gettext('%{new} new, %{same} recorded already%{refused}.', { new: preview.new, same: preview.same, refused: preview.refused ? gettext(', %{refused} can’t be', { refused: preview.refused }) : '' }) }}</p>
        <p v-for="one in preview.lines" :key="one.line"><template v-if="one.refused"><span class="text-rust">{{ gettext('Line %{line}: %{refused}', { line: one.line, refused: one.refused }) }}</span> {{ one.remedy }}</template><template v-else>{{ gettext('%{holder} holds “%{level}” on %{account}: %{does}', { holder: one.holder?.name, level: one.level, account: one.account?.name, does: one.does }) }}</template></p>
        <p v-for="breach in preview.latches" :key="breach.latch + breach.fact">{{ gettext('A latch %{mode} (%{latch}): %{fact}. %{remedy}', { mode: breach.mode === 'hold' ? pgettext('latch', 'holds') : gettext('warns'), latch: breach.latch, fact: breach.fact, remedy: breach.remedy }) }}</p>
      </div>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="isBusy || !lines.length || (how === 'table' && faults.length > 0) || (preview !== null && !canKeep)">{{ canKeep ? gettext('Record %{new}', { new: preview!.new }) : gettext('Preview') }}</button></div>
    </form>
  </ModalBox>
</template>
