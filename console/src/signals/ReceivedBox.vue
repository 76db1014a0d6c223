<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'

import { get, send } from '@/service/api'
import { moment } from '@/frame/words'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'
import { eventWords } from './events'

const { data, status, error, refetch } = useQuery({ key: ['signals'], query: () => get('/signals') })
const failed = ref<unknown>(null)
const said = ref('')

async function clearReport(person: { id: string; name: string }): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/people/${person.id}/clear-report`)
    said.value = gettext('The report about %{person} is cleared.', { person: person.name })
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <section class="mt-6" aria-labelledby="received">
    <h2 id="received" class="mb-2 text-xl">{{ gettext('Received') }}</h2>
    <StateNote :status="status" :error="error" @retry="refetch" />
    <p v-if="said" role="status" class="mb-2">{{ said }}</p>
    <ProblemNote :error="failed" class="mb-2" />
    <p v-if="data && !data.signals.length" class="text-soft">{{ gettext('Nothing has been reported yet.') }}</p>
    <ul v-if="data?.signals.length" class="card divide-y divide-line" data-test="received-signals">
      <li v-for="row in data.signals" :key="row.id" class="flex flex-wrap items-start gap-x-4 gap-y-1 px-5 py-3">
        <div class="min-w-60 flex-1">
          <p><RouterLink v-if="row.person" :to="`/people/${row.person.id}`" class="link">{{ row.person.name }}</RouterLink><template v-else>{{ gettext('Nobody in the register') }}</template>: {{ eventWords(row.event) }}<template v-if="row.reason">. {{ row.reason }}</template></p>
          <p class="text-sm text-soft">{{ gettext('%{source}, %{at}', { source: row.source.name, at: moment(row.received_at) }) }}. {{ row.outcome }}</p>
        </div>
        <button v-if="row.person && row.is_open" class="button" @click="clearReport(row.person)">{{ gettext('Clear the report') }}<span class="sr-only">{{ ` ${gettext('about %{person}', { person: row.person.name })}` }}</span></button>
      </li>
    </ul>
  </section>
</template>
