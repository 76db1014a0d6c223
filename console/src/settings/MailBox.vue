<script setup lang="ts">
import { gettext, pgettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'

import { faultsOf, get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import { moment } from '@/frame/words'

import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['settings', 'mail'], query: () => get('/settings/mail') })
const form = reactive({ host: '', port: 587, user: '', password: '', sender: '', starttls: true })
const failed = ref<unknown>(null)
const said = ref('')
const isOpen = ref(false)
const faults = computed(() => faultsOf(failed.value))
watch(data, (found) => { if (found) Object.assign(form, { host: found.host, port: found.port, user: found.user, sender: found.sender, starttls: found.starttls, password: '' }) }, { immediate: true })

async function run(call: () => Promise<unknown>, done: string): Promise<void> {
  failed.value = null
  said.value = ''
  try {
    await proving(call)
    said.value = done
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
const save = () => run(() => send('PUT', '/settings/mail', { ...form, password: form.password || null }), gettext('Saved.'))
const test = () => run(async () => {
  await send('POST', '/settings/mail/test')
  for (let tries = 0; tries < 20 && data.value?.test_state === 'waiting' || tries === 0; tries++) {
    await new Promise((done) => window.setTimeout(done, 700))
    await refetch()
  }
}, '')
</script>

<template>
  <section class="card p-5" aria-labelledby="mail">
    <h2 id="mail" class="text-xl">{{ gettext('Mail') }}</h2>
    <StateNote :status="status" :error="error" @retry="refetch" />
    <template v-if="data">
      <p class="text-soft">{{ data.by_configuration ? gettext('Sent as the worker’s configuration says.') : gettext('Sent through %{host} from %{sender}.', { host: data.host, sender: data.sender }) }}</p>
      <p v-if="data.test_state" role="status" class="mt-1">{{ gettext('The test message of %{test_at} %{test_state}', { test_at: moment(data.test_at), test_state: data.test_state === 'sent' ? gettext('was sent.') : data.test_state === 'failed' ? gettext('failed:') : gettext('waits:') }) }} <span class="text-rust">{{ data.test_answer }}</span></p>
      <div class="mt-2 flex flex-wrap gap-2"><button class="button" @click="test">{{ gettext('Send me a test message') }}</button><button class="button" :aria-expanded="isOpen" @click="isOpen = !isOpen">{{ gettext('Change the server') }}</button></div>
      <form v-if="isOpen" class="mt-3 space-y-3" @submit.prevent="save">
        <label class="block font-semibold">{{ gettext('Server') }} <input v-model="form.host" class="field mt-1 font-normal" :placeholder="gettext('mail.example.org; empty: as configured')" :aria-invalid="Boolean(faults.host) || undefined" /></label>
        <div class="flex gap-3"><label class="font-semibold">{{ gettext('Port') }} <input v-model.number="form.port" type="number" min="1" max="65535" class="field mt-1 w-28 font-normal" /></label><label class="mt-8 flex items-center gap-2"><input v-model="form.starttls" type="checkbox" class="accent-moss" /> {{ gettext('encrypted (STARTTLS)') }}</label></div>
        <label class="block font-semibold">{{ pgettext('sender', 'From') }} <input v-model="form.sender" type="email" class="field mt-1 font-normal" :placeholder="gettext('access@example.org')" :aria-invalid="Boolean(faults.sender) || undefined" /></label>
        <label class="block font-semibold">{{ gettext('User') }} <input v-model="form.user" autocomplete="off" class="field mt-1 font-normal" /></label>
        <label class="block font-semibold">{{ gettext('Password') }} <input v-model="form.password" type="password" autocomplete="new-password" class="field mt-1 font-normal" :placeholder="data.has_password ? gettext('kept; type to replace it') : ''" /></label>
        <button class="button-main">{{ gettext('Save') }}</button>
      </form>
      <p v-if="said" role="status" class="mt-2">{{ said }}</p>
      <ProblemNote :error="failed" />
    </template>
  </section>
</template>
