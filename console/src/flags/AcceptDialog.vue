<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQueryCache } from '@pinia/colada'
import { ref, watch } from 'vue'

import { send } from '@/service/api'
import type { FlagRow } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'

const props = defineProps<{ flags: FlagRow[] }>()
const emit = defineEmits<{ close: [] }>()
const cache = useQueryCache()

const reason = ref('')
const until = ref('')
const error = ref<unknown>(null)

watch(
  () => props.flags,
  () => {
    reason.value = ''
    error.value = null
    until.value = new Date(Date.now() + 90 * 86_400_000).toISOString().slice(0, 10)
  },
)

async function accept(): Promise<void> {
  try {
    await send('POST', '/flags/accept', { flags: props.flags.map((flag) => flag.id), reason: reason.value, last_day: until.value })
    await cache.invalidateQueries({ key: ['flags'] })
    emit('close')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="flags.length > 0" :title="flags.length > 1 ? gettext('Accept %{flags} flags for a while', { flags: flags.length }) : gettext('Accept this flag for a while')" @close="$emit('close')">
    <p v-for="flag in flags.slice(0, 6)" :key="flag.id" class="mt-2">{{ flag.sentence }}</p>
    <p v-if="flags.length > 6" class="mt-2 text-soft">{{ gettext('And %{flags} more.', { flags: flags.length - 6 }) }}</p>
    <p class="mt-2 text-sm text-soft">{{ gettext('What gets worse meanwhile is open again at once.') }}</p>
    <form class="mt-4 space-y-3" @submit.prevent="accept">
      <label class="block font-semibold">
        {{ gettext('Why') }}
        <textarea v-model="reason" required minlength="3" rows="2" class="field mt-1 font-normal" />
      </label>
      <DayField v-model="until" end required :label="gettext('Last day')" class="max-w-64" />
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
        <button class="button-main">{{ gettext('Accept until this day') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
