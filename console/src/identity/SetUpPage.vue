<script setup lang="ts">
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { faultsOf, send } from '@/service/api'
import { keepMe } from './me'
import ProblemNote from '@/frame/ProblemNote.vue'

const router = useRouter()
const form = reactive({ code: '', organisation: '', time_zone: Intl.DateTimeFormat().resolvedOptions().timeZone, name: '', address: '', password: '' })
const error = ref<unknown>(null)
const isBusy = ref(false)
const zones = typeof Intl.supportedValuesOf === 'function' ? Intl.supportedValuesOf('timeZone') : []
const faults = computed(() => faultsOf(error.value))

async function setUp(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    keepMe(await send('POST', '/set-up', form))
    await router.push('/begin')
  } catch (failed) {
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <div class="mx-auto grid max-w-4xl gap-10 py-12 md:grid-cols-[2fr_3fr]">
    <div>
      <img src="/mark.svg" alt="" class="size-16" />
      <h1 class="mt-5 text-4xl font-bold">{{ gettext('Set up Open Latch') }}</h1>
      <p class="mt-3 text-lg text-soft">{{ gettext('Your organisation, and you as its first administrator. It takes a minute; everything can be changed later.') }}</p>
      <p class="mt-3 text-soft">{{ gettext('Which database is used, the keys, and where the service listens stand in its configuration, not here.') }}</p>
    </div>
    <form class="card space-y-4 p-6" @submit.prevent="setUp">
      <label class="block font-semibold">{{ gettext('The code that the start printed') }} <input v-model="form.code" required autocomplete="off" spellcheck="false" class="field mt-1 font-mono font-normal" :aria-invalid="Boolean(faults.code) || undefined" /></label>
      <label class="block font-semibold">{{ gettext('Organisation') }} <input v-model="form.organisation" required autocomplete="organization" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('Time zone') }} <input v-model="form.time_zone" required list="zones" class="field mt-1 font-normal" :aria-invalid="Boolean(faults.time_zone) || undefined" /></label>
      <datalist id="zones"><option v-for="zone in zones" :key="zone" :value="zone" /></datalist>
      <label class="block font-semibold">{{ gettext('Your name') }} <input v-model="form.name" required autocomplete="name" class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('Your e-mail address') }} <input v-model="form.address" type="email" required autocomplete="username" class="field mt-1 font-normal" :aria-invalid="Boolean(faults.address) || undefined" /></label>
      <label class="block font-semibold">{{ gettext('A password') }} <input v-model="form.password" type="password" required minlength="12" autocomplete="new-password" class="field mt-1 font-normal" :aria-invalid="Boolean(faults.password) || undefined" /><span class="font-normal text-soft">{{ gettext('12 characters or more; a few words do well.') }}</span></label>
      <ProblemNote :error="error" />
      <button class="button-main w-full" :disabled="isBusy">{{ gettext('Set it up') }}</button>
    </form>
  </div>
</template>
