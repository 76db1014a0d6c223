<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import type { FilterKept } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ list: string; filter: string; search: string; sort: string }>()
const emit = defineEmits<{ use: [kept: FilterKept] }>()
const { data, refetch } = useQuery({ key: () => ['filters', props.list], query: () => get('/filters', { list: props.list }) })
const isKeeping = ref(false)
const isLooking = ref(false)
const form = reactive({ name: '', is_shared: false })
const error = ref<unknown>(null)

async function run(call: () => Promise<unknown>): Promise<void> {
  error.value = null
  try {
    await call()
    isKeeping.value = false
  } catch (problem) {
    error.value = problem
  }
  void refetch()
}
const keep = () => run(() => send('POST', '/filters', { ...form, list: props.list, filter: props.filter, search: props.search, sort: props.sort }))
const mail = (kept: FilterKept, every: string) => run(() => send('PUT', `/filters/${kept.id}/mail`, { every }))

function choose(ident: string): void {
  const kept = data.value?.filters.find((one) => one.id === ident)
  if (kept) emit('use', kept)
}
function begin(): void {
  Object.assign(form, { name: '', is_shared: false })
  error.value = null
  isKeeping.value = true
}
</script>

<template>
  <select v-if="data?.filters.length" class="field w-auto" :aria-label="gettext('Saved filters')" value="" @change="(choose(($event.target as HTMLSelectElement).value), (($event.target as HTMLSelectElement).value = ''))">
    <option value="" disabled selected>{{ gettext('Saved filters') }}</option>
    <option v-for="one in data.filters" :key="one.id" :value="one.id">{{ one.name }}{{ one.is_mine ? '' : ` (${one.by.name})` }}</option>
  </select>
  <button type="button" class="rounded-md px-2 py-1 text-soft hover:text-ink" @click="begin">{{ gettext('Save this filter') }}</button>
  <button v-if="data?.filters.length" type="button" class="rounded-md px-2 py-1 text-soft hover:text-ink" @click="isLooking = true">{{ gettext('Mail and sharing') }}</button>
  <ModalBox :open="isKeeping" :title="gettext('Save this filter')" @close="isKeeping = false">
    <form class="mt-3 space-y-4" @submit.prevent="keep">
      <p class="text-soft">{{ [filter && gettext('Filter: %{filter}', { filter }), search && gettext('words: %{search}', { search })].filter(Boolean).join('; ') || gettext('Everything') }}</p>
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="form.name" required maxlength="120" class="field mt-1 font-normal" /></label>
      <label class="flex items-center gap-2"><input v-model="form.is_shared" type="checkbox" class="accent-moss" /> {{ gettext('Everybody may use it') }}</label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="isKeeping = false">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Save') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="isLooking" :title="gettext('Saved filters')" @close="isLooking = false">
    <ul class="mt-3 divide-y divide-line">
      <li v-for="one in data?.filters ?? []" :key="one.id" class="flex flex-wrap items-center gap-2 py-2">
        <span class="min-w-40 flex-1">{{ one.name }} <span class="block text-sm text-soft">{{ one.is_mine ? (one.is_shared ? gettext('yours, shared') : gettext('yours')) : gettext('of %{by}', { by: one.by.name }) }}</span></span>
        <label>{{ gettext('Mail') }} <select class="field inline w-auto" :value="one.mail" :aria-label="gettext('Mail of %{one}', { one: one.name })" @change="mail(one, ($event.target as HTMLSelectElement).value)"><option value="never">{{ gettext('never') }}</option><option value="day">{{ gettext('daily') }}</option><option value="week">{{ gettext('weekly') }}</option></select></label>
        <button v-if="one.is_mine" type="button" class="button" @click="run(() => send('DELETE', `/filters/${one.id}`))">{{ gettext('Remove') }}<span class="sr-only"> {{ one.name }}</span></button>
      </li>
    </ul>
    <ProblemNote :error="error" />
  </ModalBox>
</template>
