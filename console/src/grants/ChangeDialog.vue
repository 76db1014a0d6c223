<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'

import { CallFailed, send } from '@/service/api'
import { isTooLarge, KINDS, told, useLargeChange } from './largeChange'
import { proving } from '@/identity/proof'
import type { ChangeLine, ChangePreview, GrantRow } from '@/service/types'

import BreachList from '@/latches/BreachList.vue'
import LargeProgress from './LargeProgress.vue'
import ModalBox from '@/frame/ModalBox.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'
import { levelsOf } from './queries'

const props = defineProps<{ open: boolean; grants?: GrantRow[]; filter?: string; title?: string; only?: string; level?: string; lastDay?: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const form = reactive({ kind: 'set_end', last_day: props.lastDay ?? '', no_end: false, level: props.level ?? '', successor: '', reason: '' })
const preview = ref<ChangePreview | null>(null)
const result = ref<ChangeLine[] | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const many = useLargeChange()
const looked = ref('')
const summary = ref('')
// What is answered after the dialog was closed, or asked for something else, is not shown.
let turn = 0

const systems = computed(() => [...new Set((props.grants ?? []).map((grant) => grant.system.id))])
const levels = useQuery(levelsOf(() => systems.value[0], () => props.open && systems.value.length === 1))
const CURRENT = 'standing eq "current"'
const wish = computed(() => ({
  kind: form.kind,
  grants: props.filter ? [] : (props.grants ?? []).map((grant) => grant.id),
  filter: props.filter ?? '',
  versions: Object.fromEntries((props.grants ?? []).map((grant) => [grant.id, grant.version])),
  last_day: (form.kind === 'set_end' && !form.no_end) || form.kind === 'accept' ? form.last_day || null : null,
  no_end: form.kind === 'set_end' && form.no_end,
  level: form.kind === 'set_level' ? form.level || null : null,
  successor: form.kind === 'replace' || form.kind === 'adopt' ? form.successor || null : null,
  reason: form.reason,
}))
const doing = computed(() => `${KINDS.find(([kind]) => kind === form.kind)?.[1] ?? gettext('Change')}: ${ngettext('%{n} grant', '%{n} grants', preview.value?.changed ?? 0)}`)
const lines = computed(() => result.value ?? preview.value?.lines ?? [])

watch(() => props.open, (open) => {
  if (!open) return
  preview.value = result.value = error.value = null
  looked.value = summary.value = ''
  turn += 1
  Object.assign(form, { kind: props.only ?? 'set_end', last_day: '', no_end: false, level: '', successor: '', reason: '' })
  if (props.only && props.only !== 'accept') void look()
}, { immediate: true })
watch(() => [form.kind, form.last_day, form.no_end, form.level, form.successor], () => (preview.value = null))

async function look(): Promise<void> {
  error.value = null
  looked.value = summary.value = ''
  isBusy.value = true
  try {
    preview.value = await send('POST', '/changes/preview', wish.value)
  } catch (failed) {
    if (isTooLarge(failed)) await lookAtMany()
    else error.value = failed
  } finally {
    isBusy.value = false
  }
}

async function lookAtMany(): Promise<void> {
  const mine = ++turn
  try {
    const found = await many.look(wish.value)
    if (mine !== turn) return
    summary.value = told(found)
    if (found.state !== 'done') return
    looked.value = found.id
    preview.value = { lines: found.lines, changed: found.changed, needs_proof: true, fingerprint: '' }
  } catch (failed) {
    error.value = failed
  }
}

async function change(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    const body = { ...wish.value, fingerprint: preview.value?.fingerprint ?? '' }
    const mine = ++turn
    const large = looked.value ? await many.make(wish.value, looked.value) : null
    const done = large ?? (await proving(() => send('POST', '/changes', body)))
    emit('done')
    if (mine !== turn) return
    if (large) summary.value = told(large)
    result.value = done.lines
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) await look()
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <ModalBox :open="open" :title="title ?? gettext('Change %{count}', { count: ngettext('%{n} grant', '%{n} grants', grants?.length ?? 0) })" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="preview && !result ? change() : look()">
      <template v-if="!result">
        <label v-if="!only" class="block font-semibold">{{ gettext('What to do') }} <select v-model="form.kind" class="field mt-1 font-normal"><option v-for="[kind, words] in KINDS" :key="kind" :value="kind">{{ words }}</option></select></label>
        <div v-if="form.kind === 'set_end'" class="flex flex-wrap items-center gap-4">
          <DayField v-model="form.last_day" end :disabled="form.no_end" :label="gettext('Last day')" />
          <label><input v-model="form.no_end" type="checkbox" class="accent-moss" /> {{ gettext('without an end') }}</label>
        </div>
        <DayField v-if="form.kind === 'accept'" v-model="form.last_day" end required :label="gettext('Until which day')" />
        <label v-if="form.kind === 'set_level'" class="block font-semibold">
          {{ gettext('To which level') }}
          <select v-if="systems.length === 1" v-model="form.level" class="field mt-1 font-normal"><option value="" disabled>{{ gettext('Choose one') }}</option><option v-for="row in levels.data.value?.rows ?? []" :key="row.id" :value="row.id">{{ row.name }}</option></select>
          <span v-else class="block font-normal text-soft">{{ gettext('Pick grants of one system.') }}</span>
        </label>
        <label v-if="form.kind === 'replace'" class="block font-semibold">{{ gettext('To whom') }} <RecordPicker of="people" :label="gettext('To whom')" class="mt-1" required :filter="CURRENT" :model-value="form.successor || null" @update:model-value="form.successor = $event ?? ''" /></label>
        <label v-if="form.kind === 'adopt'" class="block font-semibold">{{ gettext('Who owns the account from now on, if nobody does') }} <RecordPicker of="people" :label="gettext('Who owns the account from now on')" class="mt-1" :placeholder="gettext('Leave it as it is')" :filter="CURRENT" :model-value="form.successor || null" @update:model-value="form.successor = $event ?? ''" /></label>
        <label class="block font-semibold">{{ gettext('Why') }} <input v-model="form.reason" required minlength="3" class="field mt-1 font-normal" /></label>
      </template>
      <ul v-if="lines.length" class="max-h-80 divide-y divide-line overflow-y-auto rounded-md border border-line" tabindex="0" :aria-label="result ? gettext('What was done') : gettext('What it would do')">
        <li v-for="line in lines" :key="line.grant_id" class="px-3 py-2">
          <span class="font-medium">{{ line.holder?.name ?? gettext('A grant') }}</span><template v-if="line.account">{{ ` ${gettext('on %{account}, %{level}', { account: line.account.name, level: line.level })}` }}</template>:
          <span v-if="line.refused" class="text-rust">{{ gettext('refused. %{refused} %{remedy}', { refused: line.refused, remedy: line.remedy }) }}</span><span v-else>{{ line.does }}</span>
          <BreachList :breaches="line.latches" class="mt-1" />
        </li>
      </ul>
      <p v-if="summary" role="status">{{ summary }}</p>
      <LargeProgress v-if="many.underWay.value" :change="many.underWay.value" @stop="many.stop()" />
      <ProblemNote :error="error" />
      <div class="flex flex-wrap justify-end gap-2">
        <template v-if="result"><button type="button" class="button-main" @click="$emit('close')">{{ gettext('Done') }}</button></template>
        <template v-else>
          <button type="button" class="button" @click="$emit('close')">{{ many.underWay.value && !many.underWay.value.only_preview ? gettext('Close') : gettext('Cancel') }}</button>
          <button v-if="preview" :class="form.kind === 'end' || form.kind === 'suspend' ? 'button-end' : 'button-main'" :disabled="isBusy || !preview.changed || form.reason.trim().length < 3">{{ doing }}</button>
          <button v-else class="button-main" :disabled="isBusy">{{ gettext('Preview') }}</button>
        </template>
      </div>
    </form>
  </ModalBox>
</template>
