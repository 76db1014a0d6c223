<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref, watch } from 'vue'

import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { AccountPage, ChangeLine, ChangePreview } from '@/service/types'

import BreachList from '@/latches/BreachList.vue'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'
import { levelsOf, permissionsOf } from './queries'

/** One term as the form has it; `what` is a level's id, or `only:` and the key of a permission. */
interface Row {
  what: string
  part: string
  since: string | null
  until: string | null
  last_day: string
  isEndKept: boolean
  hours: { days: number[]; begins: string; ends: string } | null
}

const props = defineProps<{ grant: string | null; account: AccountPage }>()
const emit = defineEmits<{ close: []; done: [] }>()
const DAYS = [gettext('Mon'), gettext('Tue'), gettext('Wed'), gettext('Thu'), gettext('Fri'), gettext('Sat'), gettext('Sun')]
const rows = ref<Row[]>([])
const reason = ref('')
const version = ref(0)
const preview = ref<ChangePreview | null>(null)
const done = ref<ChangeLine[] | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const levels = useQuery(levelsOf(() => props.account.system.id, () => props.grant !== null))
const permissions = useQuery(permissionsOf(() => props.account.system.id, () => props.grant !== null))

watch(() => props.grant, async (grant) => {
  if (!grant) return
  preview.value = done.value = error.value = null
  reason.value = ''
  rows.value = []
  try {
    const now = await get(`/grants/${grant}/terms`)
    version.value = now.version
    rows.value = now.terms.map((term) => ({ what: term.level?.id ?? `only:${term.permission}`, part: term.part?.id ?? '', since: term.since, until: term.until, last_day: term.last_day ?? '', isEndKept: Boolean(term.until && !term.last_day), hours: term.hours }))
  } catch (failed) {
    error.value = failed
  }
}, { immediate: true })
watch(rows, () => (preview.value = null), { deep: true })

const body = computed(() => ({
  kind: 'set_terms',
  grants: [props.grant],
  versions: { [props.grant ?? '']: version.value },
  reason: reason.value,
  terms: rows.value.map((row) => ({
    level: row.what.startsWith('only:') ? null : row.what,
    permission: row.what.startsWith('only:') ? row.what.slice('only:'.length) : '',
    part: row.part || null,
    since: row.since,
    ...(row.isEndKept ? { until: row.until } : { last_day: row.last_day || null }),
    hours: row.hours,
  })),
}))

function add(): void {
  rows.value.push({ what: levels.data.value?.rows[0]?.id ?? '', part: '', since: null, until: null, last_day: '', isEndKept: false, hours: null })
}

function toggle(row: Row, number: number): void {
  if (!row.hours) return
  const days = new Set(row.hours.days)
  if (!days.delete(number)) days.add(number)
  row.hours.days = [...days].sort()
}

async function go(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    if (preview.value) {
      done.value = (await proving(() => send('POST', '/changes', { ...body.value, fingerprint: preview.value?.fingerprint ?? '' }))).lines
      emit('done')
    } else {
      preview.value = await send('POST', '/changes/preview', body.value)
    }
  } catch (failed) {
    preview.value = null
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
const line = computed(() => (done.value ?? preview.value?.lines)?.[0])
</script>

<template>
  <ModalBox :open="grant !== null" :title="gettext('Change its terms')" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="go">
      <template v-if="!done">
        <fieldset v-for="(row, index) in rows" :key="index" class="rounded-md border border-line p-3">
          <legend class="px-1 font-semibold">{{ gettext('Term %{index}', { index: index + 1 }) }}</legend>
          <div class="grid gap-3 sm:grid-cols-2">
            <label class="font-semibold">{{ gettext('What it gives') }}
              <select v-model="row.what" class="field mt-1 font-normal">
                <optgroup :label="gettext('Levels')"><option v-for="level in levels.data.value?.rows ?? []" :key="level.id" :value="level.id">{{ level.name }}</option></optgroup>
                <optgroup :label="gettext('One permission alone')"><option v-for="one in permissions.data.value?.permissions ?? []" :key="one.key" :value="`only:${one.key}`">{{ one.sentence }}</option></optgroup>
              </select>
            </label>
            <label class="font-semibold">{{ gettext('On what') }} <select v-model="row.part" class="field mt-1 font-normal"><option value="">{{ gettext('the whole account') }}</option><option v-for="part in account.parts" :key="part.id" :value="part.id">{{ part.name }}</option></select></label>
            <DayField v-model="row.last_day" end :label="gettext('Last day')" note="empty: no end" @update:model-value="row.isEndKept = false" />
            <label class="flex items-center gap-2 self-end pb-2"><input type="checkbox" class="accent-moss" :checked="row.hours !== null" @change="row.hours = row.hours ? null : { days: [0, 1, 2, 3, 4], begins: '08:00', ends: '18:00' }" /> {{ gettext('Only in certain hours') }}</label>
          </div>
          <div v-if="row.hours" class="mt-2 flex flex-wrap items-center gap-2">
            <button v-for="(name, number) in DAYS" :key="name" type="button" class="rounded-full border px-2.5 py-0.5 text-sm" :class="row.hours.days.includes(number) ? 'border-moss bg-moss text-moss-ink' : 'border-line'" :aria-pressed="row.hours.days.includes(number)" @click="toggle(row, number)">{{ name }}</button>
            <label>{{ gettext('from') }} <input v-model="row.hours.begins" type="time" class="field inline w-auto" /></label>
            <label>{{ gettext('to') }} <input v-model="row.hours.ends" type="time" class="field inline w-auto" /></label>
          </div>
          <button v-if="rows.length > 1" type="button" class="link mt-2" @click="rows.splice(index, 1)">{{ gettext('Take term %{index} out', { index: index + 1 }) }}</button>
        </fieldset>
        <button type="button" class="button" @click="add">{{ gettext('Add a term') }}</button>
        <label class="block font-semibold">{{ gettext('Why') }} <input v-model="reason" required minlength="3" class="field mt-1 font-normal" /></label>
      </template>
      <div v-if="line" role="status" class="rounded-md bg-sunk p-3">
        <p v-if="line.refused" class="text-rust">{{ line.refused }} {{ line.remedy }}</p>
        <p v-else>{{ line.does.charAt(0).toUpperCase() + line.does.slice(1) }}.</p>
        <BreachList :breaches="line.latches" />
      </div>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ done ? gettext('Done') : gettext('Cancel') }}</button>
        <button v-if="!done" class="button-main" :disabled="isBusy || Boolean(preview && !preview.changed)">{{ preview ? gettext('Change it') : gettext('Preview') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
