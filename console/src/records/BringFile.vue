<script setup lang="ts">
import { computed, ref } from 'vue'

import { gettext, ngettext } from '@/frame/language'
import { sendFile, takeFile } from '@/service/api'
import type { FileLook, ImportReport } from '@/service/types'
import { saveText } from './files'

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
    <h2 id="bring" class="text-xl">{{ gettext('Import a file') }}</h2>
    <p class="text-soft">{{ gettext('CSV as spreadsheets write it, or JSON Lines, with whatever columns it has. You see all that would change before it does; the same file twice changes nothing.') }}</p>
    <div class="mt-3 flex flex-wrap items-end gap-3">
      <label class="font-semibold">
        {{ gettext('What is in it') }}
        <select v-model="kind" class="field mt-1 font-normal" @change="lookAt"><option v-for="name in KINDS" :key="name">{{ name }}</option></select>
      </label>
      <label
        class="min-w-64 flex-1 rounded-md border border-dashed p-3 font-semibold"
        :class="isOver ? 'border-moss bg-sky-wash' : 'border-line'"
        @dragover.prevent="isOver = true"
        @dragleave="isOver = false"
        @drop.prevent="choose(($event as DragEvent).dataTransfer?.files[0])"
      >
        {{ gettext('File') }} <span class="font-normal text-soft">{{ gettext('(drop one here, or choose)') }}</span>
        <input type="file" accept=".csv,.jsonl,.ndjson,.txt" class="field mt-1 font-normal" @change="choose(($event.target as HTMLInputElement).files?.[0])" />
      </label>
    </div>
    <form v-if="look" class="mt-4" @submit.prevent="isTried ? bring(false) : bring(true)">
      <table class="w-full text-left">
        <caption class="sr-only">{{ gettext('Columns of the file') }}</caption>
        <thead><tr class="border-b border-line"><th scope="col" class="py-1 pr-3">{{ gettext('Column') }}</th><th scope="col" class="py-1 pr-3">{{ gettext('What is in it') }}</th><th scope="col" class="py-1">{{ gettext('Is') }}</th></tr></thead>
        <tbody>
          <tr v-for="column in look.columns" :key="column.name" class="border-b border-line align-top">
            <th scope="row" class="py-1.5 pr-3 font-medium">{{ column.name }}</th>
            <td class="py-1.5 pr-3 text-sm break-all text-soft">{{ column.samples.join(', ') || gettext('nothing') }}</td>
            <td class="py-1.5">
              <select v-model="matching[column.name]" class="field" :aria-label="gettext('What %{column} is', { column: column.name })" @change="report = null">
                <option value="">{{ gettext('ignore it') }}</option>
                <option v-for="field in look.fields" :key="field.name" :value="field.name">{{ field.name.replaceAll('_', ' ') }}{{ field.required ? ` ${gettext('(needed)')}` : '' }}</option>
              </select>
              <span v-if="column.by && column.field === matching[column.name]" class="text-sm text-soft">{{ { kept: gettext('as you said the last time'), name: 'by its name', content: gettext('by what is in it') }[column.by] }}</span>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="lacking.length" class="mt-2 rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">{{ gettext('Still needed: %{lacking}.', { lacking: lacking.map((field) => field.name.replaceAll('_', ' ')).join(', ') }) }}</p>
      <div class="mt-3 flex flex-wrap items-center gap-3">
        <button class="button-main" :disabled="isBusy || lacking.length > 0 || Boolean(isTried && report?.bad && !keepGood)">{{ isBusy ? gettext('Reading') : isTried ? gettext('Import it') : gettext('Preview') }}</button>
        <label><input v-model="keepGood" type="checkbox" class="accent-moss" /> {{ gettext('keep the good lines when some are refused') }}</label>
      </div>
    </form>
    <ProblemNote :error="error" class="mt-3" />
    <div v-if="report" class="mt-4 space-y-3" role="status">
      <p class="font-semibold">
        {{ gettext('%{count} read: %{added} added, %{changed} changed, %{unchanged} unchanged, %{bad} refused. %{kept}', { count: ngettext('%{n} line', '%{n} lines', report.read), added: report.added, changed: report.changed, unchanged: report.unchanged, bad: report.bad, kept: report.kept ? gettext('Kept.') : gettext('Nothing was kept.') }) }}
      </p>
      <div v-if="report.errors.length">
        <p class="font-semibold">{{ gettext('Refused') }} <button type="button" class="link ml-2 font-normal" @click="takeRefused">{{ gettext('Download the refused lines with the reasons') }}</button></p>
        <ul class="mt-1 max-h-64 overflow-y-auto">
          <li v-for="problem in report.errors.slice(0, 200)" :key="`${problem.line} ${problem.field}`">{{ gettext('Line %{line}', { line: problem.line }) }}<template v-if="problem.field">, {{ problem.field }}</template>: {{ problem.reason }}</li>
        </ul>
      </div>
      <div v-if="report.fresh?.length"><p class="font-semibold">{{ gettext('Would be added') }}</p><p>{{ report.fresh.slice(0, 60).join(', ') }}<template v-if="report.added > 60">{{ gettext(', and %{added} more', { added: report.added - 60 }) }}</template></p></div>
      <div v-if="report.differences?.length">
        <p class="font-semibold">{{ gettext('Would change') }}</p>
        <ul class="mt-1 max-h-64 overflow-y-auto">
          <li v-for="one in report.differences.slice(0, 200)" :key="`${one.line} ${one.field}`">{{ gettext('Line %{line}, %{field} of %{key}: from “%{was}” to “%{will}”', { line: one.line, field: one.field, key: one.key, was: one.was || gettext('nothing'), will: one.will || gettext('nothing') }) }}</li>
        </ul>
      </div>
      <ul v-if="report.latches?.length" class="list-disc pl-5"><li v-for="one in report.latches" :key="one.fact">{{ one.latch }}: {{ one.fact }}</li></ul>
    </div>
  </section>
</template>
