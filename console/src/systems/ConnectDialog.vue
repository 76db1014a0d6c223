<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'

import { faultsOf, get, send, sendAs } from '@/service/api'
import { proving } from '@/identity/proof'
import type { SystemRecord, SystemTrial } from '@/service/types'
import { plain } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

/** Connects a system, or changes how one is reached: the form is what its adapter says that it has to be told. */
const props = defineProps<{ open: boolean; id?: string }>()
const emit = defineEmits<{ close: []; done: [system: SystemRecord]; gone: [] }>()
const adapters = useQuery({ key: ['adapters'], query: () => get('/adapters'), enabled: () => props.open })
const record = ref<SystemRecord | null>(null)
const name = ref('')
const kind = ref('by_hand')
const settings = reactive<Record<string, string | number>>({})
const secret = ref('')
const trial = ref<SystemTrial | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const isRemoving = ref(false)
const adapter = computed(() => adapters.data.value?.adapters.find((one) => one.kind === kind.value))
const faults = computed(() => faultsOf(error.value))
const isReached = computed(() => Boolean(record.value) && kind.value === record.value!.kind && !secret.value && Object.entries(settings).every(([key, value]) => String(record.value!.settings[key] ?? '') === String(value)))

watch(() => props.open, async (open) => {
  if (!open) return
  error.value = null
  trial.value = null
  secret.value = ''
  isRemoving.value = false
  record.value = null
  name.value = ''
  kind.value = 'by_hand'
  if (!props.id) return
  try {
    record.value = await get(`/systems/${props.id}/record`)
    name.value = record.value.name
    kind.value = record.value.kind
  } catch (failed) {
    error.value = failed
  }
}, { immediate: true })
watch([kind, adapter], () => {
  for (const key of Object.keys(settings)) delete settings[key]
  for (const one of adapter.value?.settings ?? []) settings[one.name] = record.value?.settings[one.name] ?? one.usual ?? ''
}, { immediate: true })
watch([settings, secret, kind], () => (trial.value = null))

async function attempt(call: () => Promise<void>): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await call()
  } catch (failed) {
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
const tryOut = () => attempt(async () => {
  let found = await send('POST', '/systems/trials', { kind: kind.value, settings, secret: secret.value || null, ...(props.id ? { system: props.id } : {}) })
  for (let tries = 0; found.state === 'waiting' && tries < 80; tries++) {
    await new Promise((done) => window.setTimeout(done, 500))
    found = await get(`/systems/trials/${found.id}`)
  }
  trial.value = found
})
const keep = () => attempt(async () => {
  const body = { name: name.value, ...(trial.value ? { trial: trial.value.id } : {}) }
  const found = props.id
    ? await proving(() => send('PATCH', `/systems/${props.id}`, body, { 'If-Match': `"${record.value!.version}"` }))
    : await send('POST', '/systems', body)
  emit('done', found)
  emit('close')
})
const pause = (paused: boolean) => attempt(async () => {
  record.value = await sendAs<SystemRecord>(paused ? 'PUT' : 'DELETE', `/systems/${props.id}/paused`)
  emit('done', record.value)
})
const remove = () => attempt(async () => {
  await proving(() => send('DELETE', `/systems/${props.id}`))
  emit('gone')
  emit('close')
})
</script>

<template>
  <ModalBox :open="open" :title="id ? gettext('%{system}: how it is reached', { system: record?.name ?? gettext('System') }) : gettext('Connect or name a system')" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="kind === 'by_hand' || trial?.state === 'good' || isReached ? keep() : tryOut()">
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="name" required class="field mt-1 font-normal" :placeholder="gettext('Mail server')" :aria-invalid="Boolean(faults.name) || undefined" /></label>
      <label class="block font-semibold">{{ gettext('Kind') }}
        <select v-model="kind" class="field mt-1 font-normal" :disabled="Boolean(record && record.kind !== 'by_hand')">
          <option value="by_hand">{{ gettext('looked after by hand') }}</option>
          <option v-for="one in adapters.data.value?.adapters ?? []" :key="one.kind" :value="one.kind">{{ one.name }}</option>
        </select>
      </label>
      <p v-if="kind === 'by_hand'" class="text-soft">{{ gettext('Open Latch does not reach into it. What is given or taken away there becomes a task for a person, who says when it is done. It begins with the levels View, Edit and Administer.') }}</p>
      <template v-if="adapter">
        <div v-for="one in adapter.settings" :key="one.name">
          <label :for="`setting-${one.name}`" class="block font-semibold">{{ plain(one.name) }}</label>
          <input :id="`setting-${one.name}`" v-model="settings[one.name]" class="field mt-1" :aria-describedby="`setting-${one.name}-about`" :aria-invalid="Boolean(faults[`settings.${one.name}`]) || undefined" />
          <p :id="`setting-${one.name}-about`" class="text-sm text-soft">{{ one.about }} <strong v-if="faults[`settings.${one.name}`]" class="text-rust">{{ gettext('It %{faults}.', { faults: faults[`settings.${one.name}`] }) }}</strong></p>
        </div>
        <div v-if="adapter.needs_secret"><label for="setting-secret" class="block font-semibold">{{ gettext('Password or key') }}</label><textarea id="setting-secret" v-model="secret" rows="1" autocomplete="off" spellcheck="false" class="field mt-1 font-mono [-webkit-text-security:disc]" :placeholder="record?.has_secret ? gettext('kept; give a new one to replace it') : ''" :aria-invalid="Boolean(faults.secret) || undefined" /><p class="text-sm text-soft">{{ gettext('Of Open Latch’s own login there. It is sealed for the worker; nobody can read it again.') }}</p></div>
        <details v-if="adapter.rights.length"><summary class="cursor-pointer text-soft">{{ gettext('What that login has to be allowed') }}</summary><ul class="list-disc pl-5"><li v-for="right in adapter.rights" :key="right">{{ right }}</li></ul></details>
      </template>
      <p v-if="trial" :role="trial.state === 'good' ? 'status' : 'alert'" class="rounded-md border-l-4 px-3 py-2" :class="trial.state === 'good' ? 'border-moss bg-sky-wash' : 'border-rust bg-rust-wash'">{{ trial.state === 'waiting' ? gettext('The worker has not answered yet.') : trial.answer }}</p>
      <ProblemNote :error="error" />
      <div class="flex flex-wrap justify-end gap-2 border-t border-line pt-4">
        <template v-if="record">
          <button v-if="record.paused_at" type="button" class="button" :disabled="isBusy" @click="pause(false)">{{ gettext('Read it again') }}</button>
          <button v-else-if="record.kind !== 'by_hand'" type="button" class="button" :disabled="isBusy" @click="pause(true)">{{ gettext('Pause readings') }}</button>
          <button type="button" class="button" @click="isRemoving = !isRemoving">{{ gettext('Remove…') }}</button>
        </template>
        <span class="grow" />
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Close') }}</button>
        <button class="button-main" :disabled="isBusy">{{ kind === 'by_hand' || isReached ? gettext('Save') : trial?.state === 'good' ? (id ? gettext('Reach it so from now on') : gettext('Connect it')) : isBusy ? gettext('Trying…') : gettext('Try it') }}</button>
      </div>
      <div v-if="isRemoving && record" class="rounded-md bg-sunk p-3">
        <p v-if="record.dependents.length">{{ gettext('It can’t be removed: %{dependents} are in it. Remove or archive those first.', { dependents: record.dependents.map((one) => one.what).join(', ') }) }}</p>
        <template v-else><p>{{ gettext('Nothing is in it. Its levels and its secret go with it.') }}</p><button type="button" class="button-end mt-2" @click="remove">{{ gettext('Remove %{record}', { record: record.name }) }}</button></template>
      </div>
    </form>
  </ModalBox>
</template>
