<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed, sendAs } from '@/service/api'
import { proving } from '@/identity/proof'
import type { EditManyPreview } from '@/service/types'
import { FORMS, changeMany, fresh, shown, type KindOfRecord, type Values } from './forms'
import { plain } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

import FieldInput from './FieldInput.vue'

/** The same change to several records, looked at before it is made. */
const props = defineProps<{ open: boolean; kind: KindOfRecord; ids: string[] }>()
const emit = defineEmits<{ close: []; done: [] }>()
const ALONE = new Set(['name', 'address', 'other_addresses', 'marks', 'logins', 'handle', 'system', 'person', 'member_team'])
const fields = computed(() => FORMS[props.kind].filter((field) => !ALONE.has(field.name)))
const field = ref('')
const values = reactive<Values>({})
const named = reactive<Record<string, string>>({})
const preview = ref<EditManyPreview | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const chosen = computed(() => fields.value.find((one) => one.name === field.value))

watch(() => props.open, (open) => {
  if (!open) return
  Object.assign(values, fresh(props.kind))
  field.value = fields.value[0]?.name ?? ''
  preview.value = null
  error.value = null
}, { immediate: true })
watch([field, values], () => (preview.value = null))

async function run(path: string, fingerprint = ''): Promise<EditManyPreview> {
  const set: Values = { [field.value]: values[field.value] === '' ? null : values[field.value] }
  if (field.value === 'standing' && values.standing !== 'current') set.leaves_on = values.leaves_on
  return proving(() => sendAs<EditManyPreview>('POST', `/${props.kind}/${path}`, { ids: props.ids, set, ...(fingerprint ? { fingerprint } : {}) }))
}

async function attempt(make: () => Promise<void>): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await make()
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) preview.value = null
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
const look = () => attempt(async () => { preview.value = await run('edits/preview') })
const make = () => attempt(async () => {
  await run('edits', preview.value!.fingerprint)
  emit('done')
  emit('close')
})
</script>

<template>
  <ModalBox :open="open" :title="changeMany(kind, ids.length)" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="preview ? make() : look()">
      <label class="block font-semibold">{{ gettext('What is changed') }} <select v-model="field" class="field mt-1 font-normal"><option v-for="one in fields" :key="one.name" :value="one.name">{{ one.label }}</option></select></label>
      <FieldInput v-if="chosen" v-model="values[field]" :field="{ ...chosen, help: undefined, fixed: false }" :values="values" :named="named" @named="(ident, name) => (named[ident] = name)" is-new />
      <FieldInput v-if="field === 'standing' && values.standing !== 'current'" v-model="values.leaves_on" :field="{ name: 'leaves_on', label: gettext('Last day'), reads: 'day' }" :values="values" :named="named" @named="(ident, name) => (named[ident] = name)" is-new />
      <div v-if="preview" class="max-h-72 overflow-y-auto rounded-md bg-sunk p-3" data-test="edits-preview">
        <p class="font-semibold">{{ gettext('%{changed} will change%{refused}.', { changed: preview.changed, refused: preview.refused ? gettext(', %{refused} can’t', { refused: preview.refused }) : '' }) }}</p>
        <ul>
          <li v-for="line in preview.lines" :key="line.id" class="py-0.5">
            {{ line.name || gettext('One that is gone') }}:
            <span v-if="line.refused" class="text-rust">{{ line.refused }} {{ line.remedy }}</span>
            <span v-else-if="!line.changes.length" class="text-soft">{{ gettext('is so already') }}</span>
            <span v-for="one in line.changes" :key="one.field">{{ `${gettext('%{field} from %{was} to %{will}', { field: plain(one.field), was: shown(one.was, named), will: shown(one.will, named) })} ` }}</span>
          </li>
        </ul>
        <p v-for="breach in preview.latches" :key="breach.latch + breach.fact">{{ gettext('A latch warns (%{latch}): %{fact}.', { latch: breach.latch, fact: breach.fact }) }}</p>
      </div>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="isBusy || (preview !== null && !preview.changed)">{{ preview ? gettext('Change %{changed}', { changed: preview.changed }) : gettext('Preview') }}</button></div>
    </form>
  </ModalBox>
</template>
