<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'

import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { SignalReceiverOf } from '@/service/types'
import { moment } from '@/frame/words'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'
import { eventWords } from './events'

const props = defineProps<{ receiver: SignalReceiverOf }>()
const { data, status, error, refetch } = useQuery({ key: () => ['signal-receivers', props.receiver.id, 'events'], query: () => get(`/signal-receivers/${props.receiver.id}/events`) })
const failed = ref<unknown>(null)
const states: Record<string, string> = { waiting: gettext('waiting'), delivered: gettext('delivered'), given_up: gettext('given up') }

async function again(): Promise<void> {
  failed.value = null
  try {
    await proving(() => send('POST', `/signal-receivers/${props.receiver.id}/send-again`))
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <div class="mt-3 rounded-md bg-sunk p-3">
    <div v-if="receiver.given_up" class="mb-2 flex flex-wrap items-center gap-3"><span class="flex-1">{{ gettext('%{count} given up.', { count: ngettext('%{n} event', '%{n} events', receiver.given_up) }) }}</span><button class="button" @click="again">{{ gettext('Send them again') }}</button></div>
    <ProblemNote :error="failed" />
    <StateNote :status="status" :error="error" @retry="refetch" />
    <p v-if="data && !data.events.length" class="text-soft">{{ gettext('Nothing was sent yet.') }}</p>
    <ul v-if="data?.events.length" class="max-h-72 divide-y divide-line overflow-y-auto" tabindex="0" :aria-label="gettext('Events of %{receiver}', { receiver: receiver.name })">
      <li v-for="one in data.events" :key="one.id" class="flex flex-wrap gap-x-4 py-1 text-sm">
        <span class="w-44">{{ moment(one.made_at) }}</span>
        <span class="min-w-52 flex-1"><RouterLink v-if="one.person" :to="`/people/${one.person.id}`" class="link">{{ one.person.name }}</RouterLink><template v-if="one.person">: </template>{{ eventWords(one.event) }}</span>
        <span class="w-24 font-medium">{{ states[one.state] }}</span>
        <span class="min-w-40 flex-1 text-soft">{{ one.answer }}</span>
      </li>
    </ul>
  </div>
</template>
