<script setup lang="ts">
import { computed, ref } from 'vue'

import { sendFile } from '@/data/api'
import type { ImportReport } from '@/data/types'
import { counted } from '@/lib/words'

import ProblemNote from './ProblemNote.vue'

const KINDS = ['people', 'teams', 'memberships', 'accounts', 'levels', 'apps', 'handles', 'marks', 'resources', 'places', 'grants', 'sessions', 'use']
const kind = ref('people')
const file = ref<File | null>(null)
const keepGood = ref(false)
const report = ref<ImportReport | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const form = computed(() => (/\.(jsonl|ndjson)$/i.test(file.value?.name ?? '') ? 'jsonl' : 'csv'))

function choose(event: Event): void {
  file.value = (event.target as HTMLInputElement).files?.[0] ?? null
  report.value = null
}

async function bring(tryOnly: boolean): Promise<void> {
  if (!file.value) return
  isBusy.value = true
  error.value = null
  report.value = null
  try {
    const query = { form: form.value, keep_good: keepGood.value, try_only: tryOnly }
    report.value = await sendFile<ImportReport>(`/imports/${kind.value}`, query, file.value)
  } catch (failed) {
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <section class="card p-5" aria-labelledby="bring">
    <h2 id="bring" class="text-xl">Bring a file</h2>
    <p class="text-soft">CSV as spreadsheets write it, or JSON Lines. With a bad line nothing is kept, unless you say so. The same file twice changes nothing.</p>
    <form class="mt-3 flex flex-wrap items-end gap-3" @submit.prevent="bring(false)">
      <label class="font-semibold">
        What is in it
        <select v-model="kind" class="field mt-1 font-normal"><option v-for="name in KINDS" :key="name">{{ name }}</option></select>
      </label>
      <label class="font-semibold">File <input type="file" accept=".csv,.jsonl,.ndjson,.txt" class="field mt-1 font-normal" @change="choose" /></label>
      <label class="pb-2"><input v-model="keepGood" type="checkbox" class="accent-moss" /> keep the good lines</label>
      <button type="button" class="button" :disabled="!file || isBusy" @click="bring(true)">Only check</button>
      <button class="button-main" :disabled="!file || isBusy">{{ isBusy ? 'Reading' : 'Bring it in' }}</button>
    </form>
    <ProblemNote :error="error" />
    <div v-if="report" class="mt-4" role="status">
      <p class="font-semibold">
        {{ counted(report.read, 'line') }} read: {{ report.added }} added, {{ report.changed }} changed, {{ report.unchanged }} unchanged, {{ report.bad }} bad.
        {{ report.kept ? 'Kept.' : 'Nothing was kept.' }}
      </p>
      <ul v-if="report.errors.length" class="mt-2 max-h-64 overflow-y-auto">
        <li v-for="problem in report.errors.slice(0, 200)" :key="`${problem.line} ${problem.field}`">
          Line {{ problem.line }}<template v-if="problem.field">, {{ problem.field }}</template>: {{ problem.reason }}
        </li>
      </ul>
      <template v-if="report.differences.length">
        <p class="mt-3 font-semibold">What would change</p>
        <ul class="mt-1 max-h-64 overflow-y-auto">
          <li v-for="one in report.differences.slice(0, 200)" :key="`${one.line} ${one.field}`">
            Line {{ one.line }}, {{ one.field }} of {{ one.key }}: from “{{ one.was || 'nothing' }}” to “{{ one.will || 'nothing' }}”
          </li>
        </ul>
      </template>
    </div>
  </section>
</template>
