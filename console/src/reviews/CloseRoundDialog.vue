<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQueryCache } from '@pinia/colada'
import { computed, ref, watch } from 'vue'

import { send } from '@/service/api'
import type { RoundPage } from '@/service/types'

import FateChoice from './FateChoice.vue'
import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ round: RoundPage; open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const cache = useQueryCache()

const KEEP = { observe: 'keep', operate: 'keep', spend: 'keep', steward: 'keep' }
const fates = ref<Record<string, string>>({ ...KEEP })
watch(() => props.open, () => (fates.value = { ...KEEP, ...props.round.undecided }), { immediate: true })
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
  <ModalBox :open="open" :title="gettext('Close “%{round}”', { round: round.name })" @close="$emit('close')">
    <p class="my-3">{{ gettext('Nobody decides in it afterwards. What was decided is carried out; when all of it is confirmed or explained, nothing in the round can change. %{count} decided, %{left} not.', { count: ngettext('%{n} item', '%{n} items', round.decided), left }) }}</p>
    <FateChoice v-if="left" v-model="fates" />
    <ProblemNote :error="error" />
    <div class="mt-4 flex justify-end gap-2">
      <button class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
      <button :class="takes ? 'button-end' : 'button-main'" @click="shut">{{ left ? gettext('Close with %{count}', { count: ngettext('%{n} undecided item', '%{n} undecided items', left) }) : gettext('Close the round') }}</button>
    </div>
  </ModalBox>
</template>
