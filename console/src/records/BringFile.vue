<script setup lang="ts">
import { computed, ref } from 'vue'

import { sendFile, takeFile } from '@/service/api'
import type { FileLook, ImportReport } from '@/service/types'
import { saveText } from './files'
import { counted } from '@/frame/words'

import ProblemNote from '@/frame/ProblemNote.vue'

const emit = defineEmits<{ done: [] }>()
const KINDS = ['people', 'teams', 'memberships', 'accounts', 'levels', 'apps', 'handles', 'marks', 'resources', 'places', 'grants', 'sessions', 'use']
// To see what the columns are, the beginning of a file is enough.
const LOOKED_AT = 500_000
const kind = ref('people')
const file = ref<File | null>(null)
const look = ref<FileLook | null>(null)
const matching = ref<Record<string, string>>({})
const keepGood = ref(false)
const report = ref<ImportReport | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const isOver = ref(false)
const form = computed(() => (/\.(jsonl|ndjson)$/i.test(file.value?.name ?? '') ? 'jsonl' : 'csv'))
const query = computed(() => ({ form: form.value, matching: JSON.stringify(matching.value) }))
const lacking = computed(() => (look.value?.fields ?? []).filter((field) => field.required && !Object.values(matching.value).includes(field.name)))
const isTried = computed(() => report.value !== null && !report.value.kept)

async function run(call: () => Promise<void>): Promise<void> {
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

/** Whole lines of the beginning of a file. */
async function beginning(chosen: File): Promise<Blob> {
  if (chosen.size <= LOOKED_AT) return chosen
  const bytes = new Uint8Array(await chosen.slice(0, LOOKED_AT).arrayBuffer())
  return new Blob([bytes.slice(0, bytes.lastIndexOf(10) + 1)])
}

const lookAt = () => run(async () => {
  report.value = look.value = null
  if (!file.value) return
  look.value = await sendFile<FileLook>(`/imports/${kind.value}/look`, { form: form.value }, await beginning(file.value))
  matching.value = Object.fromEntries(look.value.columns.map((column) => [column.name, column.field]))
})
const bring = (tryOnly: boolean) => run(async () => {
  if (!file.value) return
  report.value = null
  report.value = await sendFile<ImportReport>(`/imports/${kind.value}`, { ...query.value, keep_good: keepGood.value, try_only: tryOnly, keep_matching: true }, file.value)
  if (report.value.kept) emit('done')
})
const takeRefused = () => run(async () => {
  if (!file.value) return
  saveText(`refused-${file.value.name}`, await takeFile(`/imports/${kind.value}/refused`, query.value, file.value), 'text/plain')
})

function choose(chosen: File | undefined): void {
  isOver.value = false
  if (!chosen) return
  file.value = chosen
  void lookAt()
}
</script>

<template>
  <section class="card p-5" aria-labelledby="bring">
    <h2 id="bring" class="text-xl">Import a file</h2>
    <p class="text-soft">CSV as spreadsheets write it, or JSON Lines, with whatever columns it has. You see all that would change before it does; the same file twice changes nothing.</p>
    <div class="mt-3 flex flex-wrap items-end gap-3">
      <label class="font-semibold">
        What is in it
        <select v-model="kind" class="field mt-1 font-normal" @change="lookAt"><option v-for="name in KINDS" :key="name">{{ name }}</option></select>
      </label>
      <label
        class="min-w-64 flex-1 rounded-md border border-dashed p-3 font-semibold"
        :class="isOver ? 'border-moss bg-sky-wash' : 'border-line'"
        @dragover.prevent="isOver = true"
        @dragleave="isOver = false"
        @drop.prevent="choose(($event as DragEvent).dataTransfer?.files[0])"
      >
        File <span class="font-normal text-soft">(drop one here, or choose)</span>
        <input type="file" accept=".csv,.jsonl,.ndjson,.txt" class="field mt-1 font-normal" @change="choose(($event.target as HTMLInputElement).files?.[0])" />
      </label>
    </div>
    <form v-if="look" class="mt-4" @submit.prevent="isTried ? bring(false) : bring(true)">
      <table class="w-full text-left">
        <caption class="sr-only">Columns of the file</caption>
        <thead><tr class="border-b border-line"><th scope="col" class="py-1 pr-3">Column</th><th scope="col" class="py-1 pr-3">What is in it</th><th scope="col" class="py-1">Is</th></tr></thead>
        <tbody>
          <tr v-for="column in look.columns" :key="column.name" class="border-b border-line align-top">
            <th scope="row" class="py-1.5 pr-3 font-medium">{{ column.name }}</th>
            <td class="py-1.5 pr-3 text-sm break-all text-soft">{{ column.samples.join(', ') || 'nothing' }}</td>
            <td class="py-1.5">
              <select v-model="matching[column.name]" class="field" :aria-label="`What ${column.name} is`" @change="report = null">
                <option value="">ignore it</option>
                <option v-for="field in look.fields" :key="field.name" :value="field.name">{{ field.name.replaceAll('_', ' ') }}{{ field.required ? ' (needed)' : '' }}</option>
              </select>
              <span v-if="column.by && column.field === matching[column.name]" class="text-sm text-soft">{{ { kept: 'as you said the last time', name: 'by its name', content: 'by what is in it' }[column.by] }}</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="lacking.length" class="mt-2 rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">Still needed: {{ lacking.map((field) => field.name.replaceAll('_', ' ')).join(', ') }}.</p>
      <div class="mt-3 flex flex-wrap items-center gap-3">
        <button class="button-main" :disabled="isBusy || lacking.length > 0 || Boolean(isTried && report?.bad && !keepGood)">{{ isBusy ? 'Reading' : isTried ? 'Import it' : 'Preview' }}</button>
        <label><input v-model="keepGood" type="checkbox" class="accent-moss" /> keep the good lines when some are refused</label>
      </div>
    </form>
    <ProblemNote :error="error" class="mt-3" />
    <div v-if="report" class="mt-4 space-y-3" role="status">
      <p class="font-semibold">
        {{ counted(report.read, 'line') }} read: {{ report.added }} added, {{ report.changed }} changed, {{ report.unchanged }} unchanged, {{ report.bad }} refused.
        {{ report.kept ? 'Kept.' : 'Nothing was kept.' }}
      </p>
      <div v-if="report.errors.length">
        <p class="font-semibold">Refused <button type="button" class="link ml-2 font-normal" @click="takeRefused">Download the refused lines with the reasons</button></p>
        <ul class="mt-1 max-h-64 overflow-y-auto">
          <li v-for="problem in report.errors.slice(0, 200)" :key="`${problem.line} ${problem.field}`">Line {{ problem.line }}<template v-if="problem.field">, {{ problem.field }}</template>: {{ problem.reason }}</li>
        </ul>
      </div>
      <div v-if="report.fresh?.length"><p class="font-semibold">Would be added</p><p>{{ report.fresh.slice(0, 60).join(', ') }}<template v-if="report.added > 60">, and {{ report.added - 60 }} more</template></p></div>
      <div v-if="report.differences?.length">
        <p class="font-semibold">Would change</p>
        <ul class="mt-1 max-h-64 overflow-y-auto">
          <li v-for="one in report.differences.slice(0, 200)" :key="`${one.line} ${one.field}`">Line {{ one.line }}, {{ one.field }} of {{ one.key }}: from “{{ one.was || 'nothing' }}” to “{{ one.will || 'nothing' }}”</li>
        </ul>
      </div>
      <ul v-if="report.latches?.length" class="list-disc pl-5"><li v-for="one in report.latches" :key="one.fact">{{ one.latch }}: {{ one.fact }}</li></ul>
    </div>
  </section>
</template>
