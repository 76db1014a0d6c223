<script setup lang="ts">
import { useQueryCache } from '@pinia/colada'
import { computed, ref } from 'vue'

import { send } from '@/data/api'
import type { RoundPage } from '@/data/types'
import { counted } from '@/lib/words'

import ModalBox from './ModalBox.vue'
import ProblemNote from './ProblemNote.vue'

const props = defineProps<{ round: RoundPage; open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const cache = useQueryCache()

const undecided = ref<'' | 'keep' | 'revoke'>('')
const error = ref<unknown>(null)
const left = computed(() => props.round.items - props.round.decided)
const doing = computed(() => {
  if (!left.value || !undecided.value) return 'Close the round'
  return undecided.value === 'keep' ? `Keep ${counted(left.value, 'item')} and close` : `Revoke ${counted(left.value, 'item')} and close`
})

async function shut(): Promise<void> {
  error.value = null
  try {
    await send('POST', `/rounds/${props.round.id}/close`, { undecided: undecided.value })
    await cache.invalidateQueries({ key: ['round'] })
    emit('close')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" :title="`Close “${round.name}”`" @close="$emit('close')">
    <p class="mt-2">Nothing in it can change afterwards. {{ counted(round.decided, 'item') }} decided, {{ left }} undecided.</p>
    <fieldset v-if="left" class="mt-4 space-y-1">
      <legend class="font-semibold">What becomes of the {{ counted(left, 'undecided item') }}</legend>
      <label class="block"><input v-model="undecided" type="radio" value="keep" class="accent-moss" /> they are kept</label>
      <label class="block"><input v-model="undecided" type="radio" value="revoke" class="accent-moss" /> they are revoked</label>
    </fieldset>
    <ProblemNote :error="error" />
    <div class="mt-4 flex justify-end gap-2">
      <button class="button" @click="$emit('close')">Leave it open</button>
      <button :class="undecided === 'revoke' ? 'button-end' : 'button-main'" :disabled="left > 0 && !undecided" @click="shut">{{ doing }}</button>
    </div>
  </ModalBox>
</template>
