<script setup lang="ts">
import { reactive, ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import type { SystemRow } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ system: SystemRow | null }>()
const emit = defineEmits<{ close: []; done: [] }>()
const USUAL: [string, boolean][] = [['address', true], ['employee', true], ['fingerprint', true], ['uid', false], ['name', false]]
const WORDS: Record<string, string> = { address: gettext('address'), employee: gettext('staff number'), fingerprint: gettext('key’s fingerprint'), uid: 'uid', name: 'name' }
const EVERY: [number, string][] = [[1, 'minute'], [10, '10 minutes'], [60, 'hour'], [360, '6 hours'], [1440, 'day'], [10080, 'week']]
const form = reactive<{ read_every: number; how: Record<string, string> }>({ read_every: 10, how: {} })
const error = ref<unknown>(null)

watch(() => props.system, (system) => {
  if (!system) return
  error.value = null
  const kept = system.matching.length ? system.matching : USUAL
  form.read_every = system.read_every
  form.how = Object.fromEntries(USUAL.map(([by]) => [by, kept.some(([mark]) => mark === by) ? (kept.find(([mark]) => mark === by)![1] ? 'sure' : 'ask') : 'off']))
})

async function keep(): Promise<void> {
  error.value = null
  try {
    const matching = USUAL.filter(([by]) => form.how[by] !== 'off').map(([by]) => [by, form.how[by] === 'sure'])
    await send('PUT', `/systems/${props.system!.id}/reading`, { read_every: form.read_every })
    await send('PUT', `/systems/${props.system!.id}/matching`, { matching })
    emit('done')
    emit('close')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="system !== null" :title="gettext('How %{system} is read', { system: system?.name ?? '' })" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="keep">
      <label class="block font-semibold">{{ gettext('Every') }} <select v-model="form.read_every" class="field mt-1 font-normal"><option v-if="!EVERY.some(([minutes]) => minutes === form.read_every)" :value="form.read_every">{{ gettext('%{read_every} minutes', { read_every: form.read_every }) }}</option><option v-for="[minutes, words] in EVERY" :key="minutes" :value="minutes">{{ words }}</option></select></label>
      <fieldset>
        <legend class="font-semibold">{{ gettext('How people are identified there') }}</legend>
        <p class="text-soft">{{ gettext('A login that can’t be matched with certainty is added as a new person until somebody identifies it.') }}</p>
        <label v-for="[by] in USUAL" :key="by" class="mt-2 flex items-center gap-3">
          <span class="w-36">{{ WORDS[by] }}</span>
          <select v-model="form.how[by]" class="field w-56"><option value="sure">{{ gettext('is enough alone') }}</option><option value="ask">{{ gettext('somebody is asked') }}</option><option value="off">{{ gettext('does not count') }}</option></select>
        </label>
      </fieldset>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Save') }}</button></div>
    </form>
  </ModalBox>
</template>
