<script setup lang="ts">
import { reactive, ref, watch } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { ends } from '@/frame/words'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'

const props = defineProps<{ grant: { id: string; account: { name: string }; level: string | null; until: string | null; last_day?: string | null } | null }>()
const emit = defineEmits<{ close: []; done: [said: string] }>()
const form = reactive({ last_day: '', reason: '' })
const error = ref<unknown>(null)
watch(() => props.grant, (grant) => {
  if (grant) Object.assign(form, { last_day: '', reason: '' })
  error.value = null
})

async function ask(): Promise<void> {
  error.value = null
  try {
    await send('POST', '/requests', { extends: props.grant?.id, last_day: form.last_day || null, reason: form.reason })
    emit('done', 'Asked. You will be told what comes of it; until then it ends as it says.')
    emit('close')
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="grant !== null" :title="gettext('Ask for more time')" @close="emit('close')">
    <form v-if="grant" class="mt-3 space-y-4" @submit.prevent="ask">
      <p>{{ gettext('“%{level}” on %{account}, %{grant}. The same access goes on, if whoever answers for it says yes.', { level: grant.level, account: grant.account.name, grant: ends(grant) }) }}</p>
      <DayField v-model="form.last_day" end :label="gettext('Until which day')" note="empty: let them say" />
      <label class="block font-semibold">{{ gettext('Why') }} <input v-model="form.reason" required minlength="3" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="emit('close')">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Ask for more time') }}</button></div>
    </form>
  </ModalBox>
</template>
