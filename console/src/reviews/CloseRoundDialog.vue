<script setup lang="ts">
import { useQueryCache } from '@pinia/colada'
import { computed, ref, watch } from 'vue'

import { send } from '@/service/api'
import type { RoundPage } from '@/service/types'
import { counted } from '@/frame/words'

import FateChoice from './FateChoice.vue'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ round: RoundPage; open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const cache = useQueryCache()

const KEEP = { observe: 'keep', operate: 'keep', spend: 'keep', steward: 'keep' }
const fates = ref<Record<string, string>>({ ...KEEP })
watch(() => props.open, () => (fates.value = { ...KEEP, ...props.round.undecided }))
const error = ref<unknown>(null)
const left = computed(() => props.round.items - props.round.decided)
const takes = computed(() => left.value > 0 && Object.values(fates.value).some((fate) => fate !== 'keep'))

async function shut(): Promise<void> {
  error.value = null
  try {
    await send('POST', `/rounds/${props.round.id}/close`, { undecided: left.value ? fates.value : null })
    await cache.invalidateQueries({ key: ['round'] })
    await cache.invalidateQueries({ key: ['items'] })
    emit('close')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" :title="`Close “${round.name}”`" @close="$emit('close')">
    <p class="my-3">Nobody decides in it afterwards. What was decided is carried out; when all of it is confirmed or explained, nothing in the round can change. {{ counted(round.decided, 'item') }} decided, {{ left }} not.</p>
    <FateChoice v-if="left" v-model="fates" />
    <ProblemNote :error="error" />
    <div class="mt-4 flex justify-end gap-2">
      <button class="button" @click="$emit('close')">Cancel</button>
      <button :class="takes ? 'button-end' : 'button-main'" @click="shut">{{ left ? `Close with ${counted(left, 'undecided item')}` : 'Close the round' }}</button>
    </div>
  </ModalBox>
</template>
