<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { gettext, ngettext } from '@/frame/language'
import { get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { Undone } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ open: boolean; id: string }>()
const emit = defineEmits<{ close: []; done: [] }>()
const found = ref<Undone | null>(null)
const isDone = ref(false)
const reason = ref('')
const error = ref<unknown>(null)
const back = computed(() => found.value?.lines.filter((line) => !line.refused).length ?? 0)

watch(() => props.open, async (open) => {
  if (!open) return
  found.value = error.value = null
  isDone.value = false
  reason.value = ''
  try {
    found.value = await get(`/revocations/${props.id}/undo`)
  } catch (failed) {
    error.value = failed
  }
})

async function undo(): Promise<void> {
  error.value = null
  try {
    found.value = await proving(() => send('POST', `/revocations/${props.id}/undo`, { reason: reason.value }))
    isDone.value = true
    emit('done')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" :title="found?.title ?? gettext('Undo')" @close="$emit('close')">
    <StateNote v-if="!found && !error" status="pending" />
    <form v-else class="mt-3 space-y-4" @submit.prevent="undo">
      <ul v-if="found?.lines.length" class="max-h-80 divide-y divide-line overflow-y-auto rounded-md border border-line" tabindex="0" :aria-label="gettext('What is put back')">
        <li v-for="line in found.lines" :key="line.grant_id" class="px-3 py-2">
          <span class="font-medium">{{ line.holder }}</span> {{ gettext('on %{account}', { account: line.account.name }) }}
          <span v-if="line.refused" class="text-rust">{{ gettext('is not put back. %{refused}', { refused: line.refused }) }}</span><span v-else>{{ line.does }}</span>
        </li>
      </ul>
      <p v-for="said in found?.also ?? []" :key="said" class="text-soft">{{ said }}</p>
      <label v-if="found && !isDone" class="block font-semibold">{{ gettext('Why') }} <input v-model="reason" required minlength="3" class="field mt-1 font-normal" :placeholder="gettext('It was the wrong person.')" /></label>
      <ProblemNote :error="error" />
      <div class="flex flex-wrap justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ isDone ? gettext('Done') : gettext('Cancel') }}</button>
        <button v-if="found && !isDone" class="button-main" :disabled="reason.trim().length < 3 || (found.lines.length > 0 && !back)">{{ found.lines.length ? gettext('Put %{count} back', { count: ngettext('%{n} grant', '%{n} grants', back) }) : gettext('Stop it here') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
