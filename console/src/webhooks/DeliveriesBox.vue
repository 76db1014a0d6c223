<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'

import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { WebhookOf } from '@/service/types'
import { moment } from '@/frame/words'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ webhook: WebhookOf }>()
const { data, status, error, refetch } = useQuery({ key: () => ['webhooks', props.webhook.id, 'deliveries'], query: () => get(`/webhooks/${props.webhook.id}/deliveries`) })
const failed = ref<unknown>(null)
const STATES: Record<string, string> = { waiting: gettext('waiting'), delivered: gettext('delivered'), given_up: gettext('given up') }

async function again(): Promise<void> {
  failed.value = null
  try {
    await proving(() => send('POST', `/webhooks/${props.webhook.id}/again`, {}))
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <div class="mt-3 rounded-md bg-sunk p-3">
    <div v-if="webhook.given_up" class="mb-2 flex flex-wrap items-center gap-3"><span class="flex-1">{{ gettext('%{count} given up.', { count: ngettext('%{n} delivery', '%{n} deliveries', webhook.given_up) }) }}</span><button class="button" @click="again">{{ gettext('Send them again') }}</button></div>
    <ProblemNote :error="failed" />
    <StateNote :status="status" :error="error" @retry="refetch" />
    <p v-if="data && !data.rows.length" class="text-soft">{{ gettext('Nothing was sent yet.') }}</p>
    <ul v-if="data?.rows.length" class="max-h-72 divide-y divide-line overflow-y-auto" tabindex="0" :aria-label="gettext('Deliveries of %{webhook}', { webhook: webhook.name })">
      <li v-for="one in data.rows" :key="one.id" class="flex flex-wrap gap-x-4 py-1 text-sm">
        <span class="w-32">{{ one.position === null ? gettext('test') : gettext('entry %{position}', { position: one.position }) }}</span>
        <span class="w-24 font-medium">{{ STATES[one.state] }}</span>
        <span class="min-w-40 flex-1 text-soft">{{ one.answer || gettext('not tried yet') }}<template v-if="one.tries > 1">{{ gettext('; %{tries} tries', { tries: one.tries }) }}</template><template v-if="one.next_try_at">{{ gettext('; again %{next_try_at}', { next_try_at: moment(one.next_try_at) }) }}</template></span>
      </li>
    </ul>
  </div>
</template>
