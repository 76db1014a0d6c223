<script setup lang="ts">
import { computed, nextTick, reactive, ref, toRaw, watch } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed, faultsOf, getAs, send, sendAs } from '@/service/api'
import { proving } from '@/identity/proof'
import type { RecordOf } from '@/service/types'
import { ADD, ADD_THIS, FORMS, changed, fresh, type KindOfRecord, type Values } from './forms'
import { plain } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

import FieldInput from './FieldInput.vue'

/** Adds a record, or edits one. What is typed is kept until it is saved or thrown away, also when the session ends. */
const props = defineProps<{ open: boolean; kind: KindOfRecord; id?: string; start?: Values; account?: string }>()
const emit = defineEmits<{ close: []; done: [record: RecordOf]; gone: [] }>()

const record = ref<RecordOf | null>(null)
const values = reactive<Values>({})
const named = reactive<Record<string, string>>({})
const error = ref<unknown>(null)
const meanwhile = ref<Record<string, string> | null>(null)
const warnings = ref<RecordOf['warnings']>([])
const isBusy = ref(false)
const isRemoving = ref(false)
const hasDraft = ref(false)
const fields = computed(() => FORMS[props.kind].filter((field) => !field.when || field.when(values)))
const faults = computed(() => (error.value instanceof CallFailed && error.value.status === 422 ? faultsOf(error.value) : {}))
const other = computed(() => {
  const known = new Set(fields.value.map((field) => field.name))
  return Object.keys(faults.value).length && Object.keys(faults.value).every((name) => known.has(name)) ? null : error.value
})
const draft = computed(() => `draft ${props.kind} ${props.id ?? `new ${props.account ?? ''}`}`)

function fill(found: Values): void {
  for (const name of Object.keys(values)) delete values[name]
  Object.assign(values, structuredClone(toRaw(found)))
}

async function load(): Promise<void> {
  error.value = null
  meanwhile.value = null
  warnings.value = []
  isRemoving.value = false
  record.value = null
  fill({ ...fresh(props.kind), ...props.start })
  if (props.id) {
    try {
      record.value = await getAs<RecordOf>(`/${props.kind}/${props.id}/record`)
      Object.assign(named, record.value.named)
      fill(record.value.values)
    } catch (failed) {
      error.value = failed
      return
    }
  }
  const kept = sessionStorage.getItem(draft.value)
  hasDraft.value = kept !== null
  if (kept) fill({ ...values, ...(JSON.parse(kept) as Values) })
  await nextTick()
}

watch(() => props.open, (open) => { if (open) void load() }, { immediate: true })
watch(values, () => {
  if (!props.open || (props.id && !record.value)) return
  const typed = changed(record.value?.values ?? { ...fresh(props.kind), ...props.start }, values)
  if (Object.keys(typed).length) sessionStorage.setItem(draft.value, JSON.stringify(typed))
  else sessionStorage.removeItem(draft.value)
})

function forget(): void {
  sessionStorage.removeItem(draft.value)
  hasDraft.value = false
}

async function call(make: () => Promise<void>): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await make()
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 412) meanwhile.value = faultsOf(failed)
    error.value = failed
    await nextTick()
    document.querySelector<HTMLElement>('[role=dialog] [aria-invalid=true]')?.focus()
  } finally {
    isBusy.value = false
  }
}

const save = () => call(async () => {
  const before = record.value
  const version: Record<string, string> = before ? { 'If-Match': `"${before.version}"` } : {}
  const body = before ? changed(before.values, values) : Object.fromEntries(Object.entries(values).map(([name, value]) => [name, value === '' && FORMS[props.kind].some((field) => field.name === name && field.reads !== 'text' && field.reads !== 'long') ? null : value]))
  const path = before ? `/${props.kind}/${before.id}` : `/${props.kind}`
  const found = await proving(() => sendAs<RecordOf>(before ? 'PATCH' : 'POST', path, { ...(before ? {} : props.start), ...body }, version))
  forget()
  emit('done', found)
  if (found.warnings.length) {
    warnings.value = found.warnings
    record.value = found
  } else emit('close')
})

/** Somebody changed it meanwhile: what they did is looked at, and what was typed here is kept upon it. */
const takeUp = () => call(async () => {
  const typed = changed(record.value!.values, values)
  record.value = await getAs<RecordOf>(`/${props.kind}/${props.id}/record`)
  Object.assign(named, record.value.named)
  fill({ ...record.value.values, ...typed })
  meanwhile.value = null
})

const archive = (away: boolean) => call(async () => {
  await send(away ? 'PUT' : 'DELETE', `/${props.kind}/${props.id}/archived`)
  forget()
  emit('gone')
  emit('close')
})
const remove = () => call(async () => {
  await proving(() => send('DELETE', `/${props.kind}/${props.id}`, undefined, { 'If-Match': `"${record.value!.version}"` }))
  forget()
  emit('gone')
  emit('close')
})

function throwAway(): void {
  forget()
  emit('close')
}
</script>

<template>
  <ModalBox :open="open" :title="id ? (record ? gettext('Edit %{record}', { record: record.name }) : gettext('Edit')) : ADD[kind]" @close="$emit('close')">
    <form class="mt-3 space-y-4" novalidate @submit.prevent="save">
      <p v-if="hasDraft" role="status" class="rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">{{ gettext('What you typed before is here again.') }} <button type="button" class="link" @click="((forget()), void load())">{{ gettext('Start again') }}</button></p>
      <div v-for="field in fields" :key="field.name">
        <FieldInput v-model="values[field.name]" :field="field" :values="values" :named="named" @named="(ident, name) => (named[ident] = name)" :fault="faults[field.name]" :is-new="!id" :account="account" />
      </div>
      <div v-if="meanwhile" role="alert" class="rounded-md border border-brass bg-brass-wash p-3">
        <p class="font-semibold">{{ error instanceof Error ? error.message : '' }}</p>
        <ul class="list-disc pl-5"><li v-for="(what, name) in meanwhile" :key="name">{{ plain(String(name)) }}: {{ what }}</li></ul>
        <button type="button" class="button mt-2" @click="takeUp">{{ gettext('Look at it as it is now, with my changes') }}</button>
      </div>
      <ProblemNote v-else :error="other" />
      <div v-if="warnings.length" role="status" class="rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">
        <p class="font-semibold">{{ gettext('It is saved, and a latch warns:') }}</p>
        <p v-for="breach in warnings" :key="breach.latch + breach.fact">{{ breach.latch }}: {{ breach.fact }}. {{ breach.remedy }}</p>
      </div>
      <div class="flex flex-wrap justify-end gap-2 border-t border-line pt-4">
        <template v-if="id && record && kind !== 'memberships'">
          <button v-if="kind !== 'people' && !record.archived_at" type="button" class="button" :disabled="isBusy" @click="archive(true)">{{ gettext('Archive') }}</button>
          <button v-if="record.archived_at" type="button" class="button" :disabled="isBusy" @click="archive(false)">{{ gettext('Take out of the archive') }}</button>
          <button v-if="!isRemoving" type="button" class="button" @click="isRemoving = true">{{ gettext('Remove…') }}</button>
        </template>
        <span class="grow" />
        <button type="button" class="button" @click="throwAway">{{ gettext('Throw away') }}</button>
        <button class="button-main" :disabled="isBusy">{{ id ? gettext('Save') : ADD_THIS[kind] }}</button>
      </div>
      <div v-if="isRemoving && record" class="rounded-md bg-sunk p-3">
        <p v-if="record.dependents.length">{{ gettext('It can’t be removed while something refers to it: %{dependents}. %{kind}', { dependents: record.dependents.map((one) => one.what).join(', '), kind: kind === 'people' ? gettext('Let them leave instead.') : gettext('Archive it instead.') }) }}</p>
        <template v-else><p>{{ gettext('Nothing refers to it. Removed, it is gone; the journal keeps that it was there.') }}</p><button type="button" class="button-end mt-2" :disabled="isBusy" @click="remove">{{ gettext('Remove %{record}', { record: record.name }) }}</button></template>
      </div>
    </form>
  </ModalBox>
</template>
