<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, nextTick, ref, useId, useTemplateRef, watch } from 'vue'

import DayField from '@/frame/DayField.vue'
import { plain, REACHES } from '@/frame/words'
import { CallFailed, get, getAs } from '@/service/api'

import AttributePicker from './AttributePicker.vue'
import { comparisonWords, placeOfFault, readFilter, writtenFilter, type Condition } from './filters'
import ValueField from './ValueField.vue'

/** A filter by choosing what has to hold; the written filter stands below and can be edited. */
const filter = defineModel<string>({ required: true })
const props = defineProps<{ list: string }>()

const { data } = useQuery({ key: () => ['attributes', props.list], query: () => get(`/attributes/${props.list}`), staleTime: Infinity })
const attributes = computed(() => data.value?.attributes ?? [])
const byName = computed(() => new Map(attributes.value.map((one) => [one.name, one])))
const kindOf = (name: string) => byName.value.get(name)?.kind ?? 'text'
const comparisons = (name: string) => [...(byName.value.get(name)?.operators ?? []), 'pr', 'np']

/** Attributes whose days are mostly to come; of all others they are mostly over. */
const LIES_AHEAD = /until|due|runs_out|expires|leaves|next/
const EMPTY: Condition = { name: '', operator: '', value: '' }
const written = ref(filter.value)
const conditions = ref<Condition[]>([])
const isMore = ref(false)
const problem = ref('')
const field = useTemplateRef('field')
const hint = useId()

watch(filter, (value) => show(value), { immediate: true })

function show(value: string): void {
  written.value = value
  const read = readFilter(value)
  isMore.value = read === null
  conditions.value = read?.length ? read : [{ ...EMPTY }]
}

function choose(at: number, change: Partial<Condition>): void {
  const one = { ...(conditions.value[at] as Condition), ...change }
  // Another attribute is compared in its own ways, and has its own values.
  if (change.name) Object.assign(one, { operator: byName.value.get(change.name)?.operators[0] ?? 'pr', value: kindOf(change.name) === 'truth' ? 'true' : '' })
  conditions.value[at] = one
  written.value = writtenFilter(conditions.value, kindOf)
}

function remove(at: number): void {
  conditions.value.splice(at, 1)
  if (!conditions.value.length) conditions.value.push({ ...EMPTY })
  written.value = writtenFilter(conditions.value, kindOf)
  void apply()
}

/** It is tried first: what can't be read stays here, with the place selected. */
async function apply(): Promise<void> {
  problem.value = ''
  try {
    if (written.value.trim()) await getAs(`/${props.list}`, { filter: written.value, limit: 1 })
    filter.value = written.value
    show(written.value)
  } catch (fault) {
    if (!(fault instanceof CallFailed)) throw fault
    problem.value = `${fault.problem.detail} ${fault.problem.remedy ?? ''}`
    await nextTick()
    field.value?.focus()
    field.value?.setSelectionRange(...placeOfFault(written.value, fault.problem.fields?.filter ?? ''))
  }
}
</script>

<template>
  <form class="mt-1 space-y-2" @submit.prevent="apply">
    <fieldset v-if="!isMore" class="space-y-2">
      <legend class="sr-only">{{ gettext('Conditions, which all have to hold') }}</legend>
      <div v-for="(one, at) in conditions" :key="at" class="grid items-start gap-2 sm:grid-cols-[minmax(0,14rem)_10rem_minmax(0,16rem)_auto]">
        <AttributePicker :model-value="one.name" :attributes="attributes" :label="gettext('Condition %{at}: attribute', { at: at + 1 })" @update:model-value="(name) => choose(at, { name })" />
        <select class="field" :value="one.operator" :disabled="!one.name" :aria-label="gettext('Condition %{at}: comparison', { at: at + 1 })" @change="choose(at, { operator: ($event.target as HTMLSelectElement).value })">
          <option v-for="operator in comparisons(one.name)" :key="operator" :value="operator">{{ comparisonWords(operator, kindOf(one.name)) }}</option>
        </select>
        <span v-if="['pr', 'np'].includes(one.operator)" class="hidden sm:block" />
        <DayField v-else-if="kindOf(one.name) === 'time'" :model-value="one.value.slice(0, 10)" :past="!LIES_AHEAD.test(one.name)" :aria-label="gettext('Condition %{at}: day', { at: at + 1 })" @update:model-value="(value) => choose(at, { value: value ?? '' })" />
        <select v-else-if="kindOf(one.name) === 'truth' || kindOf(one.name) === 'reach'" class="field" :value="one.value" :aria-label="gettext('Condition %{at}: value', { at: at + 1 })" @change="choose(at, { value: ($event.target as HTMLSelectElement).value })">
          <option v-for="value in kindOf(one.name) === 'truth' ? ['true', 'false'] : REACHES" :key="value" :value="value">{{ value === 'true' ? gettext('yes') : value === 'false' ? gettext('no') : plain(value) }}</option>
        </select>
        <ValueField v-else :model-value="one.value" :list="list" :attribute="one.name" :label="gettext('Condition %{at}: value', { at: at + 1 })" @update:model-value="(value) => choose(at, { value })" />
        <button type="button" class="rounded-md px-2 py-1.5 text-left text-soft hover:text-ink" @click="remove(at)">{{ gettext('Remove') }}<span class="sr-only">{{ ` ${gettext('condition %{at}', { at: at + 1 })}` }}</span></button>
      </div>
      <button type="button" class="rounded-md px-2 py-1 text-soft hover:text-ink" @click="conditions.push({ ...EMPTY })">{{ gettext('Add a condition') }}</button>
    </fieldset>
    <p v-else class="text-soft">{{ gettext('This filter says more than conditions which all have to hold. Edit it as text.') }}</p>
    <div class="flex flex-wrap gap-2">
      <input ref="field" v-model="written" class="field min-w-0 flex-1 basis-64 font-mono text-sm" :aria-label="gettext('Filter')" :placeholder="gettext('account.sensitivity ge 3 and not (last_used_at pr)')" :aria-invalid="Boolean(problem) || undefined" :aria-describedby="problem ? hint : undefined" />
      <button class="button">{{ gettext('Apply') }}</button>
      <a href="/docs/reference/filters.html" class="link self-center" target="_blank" rel="noopener">{{ gettext('How filters are written') }}</a>
    </div>
    <p v-if="problem" :id="hint" class="max-w-3xl text-rust" role="alert">{{ problem }}</p>
  </form>
</template>
