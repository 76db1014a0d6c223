<script setup lang="ts">
import { happening } from './happenings'
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get } from '@/service/api'
import { me } from '@/identity/me'
import type { JournalRow } from '@/service/types'
import { moment } from '@/frame/words'

import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ filter: string; of: string }>()
const isOpen = ref(false)
const { data, status, error, refetch } = useQuery({
  key: () => ['journal', 'history', props.filter],
  query: () => get('/journal', { filter: props.filter, limit: 30 }),
  enabled: () => isOpen.value,
})

function why(row: JournalRow): string {
  const said = row.facts.reason ?? row.facts.why ?? row.facts.words ?? row.facts.answer ?? row.facts.changes
  return typeof said === 'string' ? said : ''
}
</script>

<template>
  <details class="card mt-6 px-5 py-3" @toggle="isOpen = ($event.target as HTMLDetailsElement).open">
    <summary class="cursor-pointer text-xl font-semibold">{{ gettext('History of %{of}', { of }) }}</summary>
    <StateNote v-if="isOpen" :status="status" :error="error" :empty="!data?.rows.length" :empty-text="gettext('Nothing has happened that you may see.')" class="mt-2" @retry="refetch" />
    <ol v-if="data?.rows.length" class="mt-2 divide-y divide-line">
      <li v-for="row in data.rows" :key="row.position" class="grid gap-x-4 py-1.5 sm:grid-cols-[9rem_1fr]">
        <span class="text-soft">{{ moment(row.at) }}</span>
        <span>
          {{ row.actor?.name ?? gettext('Open Latch') }}<span v-if="row.on_behalf_of" class="text-soft">{{ ` ${gettext('on behalf of %{on_behalf_of}', { on_behalf_of: row.on_behalf_of })}` }}</span>: {{ happening(row.action) }}, {{ row.subject?.name }}
          <span v-if="why(row)" class="block text-sm text-soft">{{ why(row) }}</span>
        </span>
      </li>
    </ol>
    <p v-if="isOpen && me?.archived_until" class="mt-2 text-soft">{{ gettext('What happened before %{until} is in the archive.', { until: moment(me.archived_until) }) }}</p>
    <p v-if="data?.rows.length" class="mt-2"><RouterLink class="link" :to="{ path: '/journal', query: { filter } }">{{ gettext('All of it, in the journal') }}</RouterLink></p>
  </details>
</template>
