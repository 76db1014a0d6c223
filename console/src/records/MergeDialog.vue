<script setup lang="ts">
import { ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { CallFailed, send, sendAs } from '@/service/api'
import { proving } from '@/identity/proof'
import type { MergePreview } from '@/service/types'
import { plain } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

import RecordPicker from './RecordPicker.vue'

/** Merges a second record of somebody, or of an app, into this one. */
const props = defineProps<{ open: boolean; kind: 'people' | 'apps'; id: string; name: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const drop = ref<string | null>(null)
const preview = ref<MergePreview | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)

watch(() => props.open, () => ((drop.value = null), (preview.value = null), (error.value = null)))
watch(drop, look)

async function look(): Promise<void> {
  preview.value = null
  error.value = null
  if (!drop.value) return
  try {
    preview.value = await sendAs<MergePreview>('POST', `/${props.kind}/merge/preview`, { keep: props.id, drop: drop.value })
  } catch (failed) {
    error.value = failed
  }
}

async function merge(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await proving(() => send('POST', `/${props.kind}/merge`, { keep: props.id, drop: drop.value, fingerprint: preview.value?.fingerprint ?? '' }))
    emit('done')
    emit('close')
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) await look()
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <ModalBox :open="open" :title="gettext('Merge another record into %{name}', { name })" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="merge">
      <p class="text-soft">{{ kind === 'people' ? gettext('For when two records are of one person. It can be undone for thirty days.') : gettext('For when two records are of one app. It can be undone for thirty days.') }}</p>
      <div><label for="merge-drop" class="font-semibold">{{ gettext('The other record') }}</label><RecordPicker id="merge-drop" v-model="drop" :of="kind" :label="gettext('The other record')" :filter="`not (id eq &quot;${id}&quot;)`" class="mt-1" /></div>
      <div v-if="preview" class="space-y-2 rounded-md bg-sunk p-3" data-test="merge-preview">
        <p v-if="preview.moves.length"><strong>{{ preview.moves.map((one) => one.what).join(', ') }}</strong> {{ gettext('of %{gone} will be %{kept}’s.', { gone: preview.gone.name, kept: preview.kept.name }) }}</p>
        <p v-else>{{ gettext('Nothing refers to %{gone}.', { gone: preview.gone.name }) }}</p>
        <p v-for="fill in preview.fills" :key="fill.field">{{ gettext('The %{field} is filled in: %{will}', { field: plain(fill.field), will: fill.will }) }}</p>
        <p v-for="lost in preview.loses" :key="lost.field">{{ gettext('The %{field} “%{was}” is not kept; it stays “%{will}”.', { field: plain(lost.field), was: lost.was, will: lost.will }) }}</p>
        <p v-if="preview.accounts.length"><strong>{{ gettext('%{kept} can act in more:', { kept: preview.kept.name }) }}</strong> {{ preview.accounts.map((one) => one.name).join(', ') }}</p>
        <p v-for="breach in preview.latches" :key="breach.latch + breach.fact">{{ gettext('A latch will be broken and flagged (%{latch}): %{fact}.', { latch: breach.latch, fact: breach.fact }) }}</p>
      </div>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button><button class="button-main" :disabled="!preview || isBusy">{{ preview ? gettext('Merge %{gone} into %{kept}', { gone: preview.gone.name, kept: preview.kept.name }) : gettext('Merge') }}</button></div>
    </form>
  </ModalBox>
</template>
