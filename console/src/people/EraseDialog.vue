<script setup lang="ts">
import { ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { Erased } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ open: boolean; id: string; name: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const shown = ref<Erased | null>(null)
const isDone = ref(false)
const error = ref<unknown>(null)

watch(() => props.open, async (open) => {
  if (!open) return
  shown.value = error.value = null
  isDone.value = false
  try {
    shown.value = await send('POST', `/people/${props.id}/erase/preview`)
  } catch (problem) {
    error.value = problem
  }
})

async function erase(): Promise<void> {
  error.value = null
  try {
    shown.value = await proving(() => send('POST', `/people/${props.id}/erase`))
    isDone.value = true
    emit('done')
  } catch (problem) {
    error.value = problem
  }
}
</script>

<template>
  <ModalBox :open="open" :title="gettext('Erase %{name}', { name })" @close="$emit('close')">
    <form class="mt-3 space-y-3" @submit.prevent="erase">
      <p v-if="!isDone">{{ gettext('Their name, addresses, logins, devices and places are erased everywhere, also in earlier versions and in the journal, which still verifies. It can’t be undone.') }}</p>
      <div v-if="shown" role="status" class="rounded-md bg-sunk p-3">
        <p>{{ isDone ? gettext('They are') : gettext('From then on they are') }} “{{ shown.person.name }}”.</p>
        <p>{{ gettext('%{records} values in records, %{sessions} sessions’ devices and places, and what %{journal} entries of the journal tell.', { records: shown.erased.records, sessions: shown.erased.sessions, journal: shown.erased.journal }) }}</p>
        <ul v-if="shown.kept.length" class="mt-1 list-disc pl-5"><li v-for="one in shown.kept" :key="one">{{ gettext('Kept: %{one}', { one }) }}</li></ul>
      </div>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="$emit('close')">{{ isDone ? gettext('Done') : gettext('Cancel') }}</button><button v-if="!isDone" class="button-end" :disabled="!shown">{{ gettext('Erase %{name}', { name }) }}</button></div>
    </form>
  </ModalBox>
</template>
