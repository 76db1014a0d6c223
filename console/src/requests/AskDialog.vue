<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { refDebounced } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'

import { get, send } from '@/service/api'
import type { RequestRow } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import PartPicker from '@/accounts/PartPicker.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import { accountPage } from '@/accounts/queries'
import DayField from '@/frame/DayField.vue'

const props = defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const form = reactive({ account_name: '', owner_address: '', level: '', until: '', reason: '', emergency: false })
const error = ref<unknown>(null)
const asked = ref<RequestRow | null>(null)
// Of an account that one can see already, parts can be chosen; of any other one knows no more than its name.
const named = refDebounced(computed(() => form.account_name.trim()), 300)
const accounts = useQuery({ key: () => ['accounts', 'to ask for', named.value], query: () => get('/accounts', { filter: `name eq ${JSON.stringify(named.value)}`, limit: 1 }), enabled: () => props.open && Boolean(named.value) })
const known = computed(() => (named.value && accounts.data.value?.rows[0]?.id) || '')
const page = useQuery(accountPage(() => known.value))
const parts = ref<string[]>([])
watch(known, () => (parts.value = []))

watch(
  () => props.open,
  (open) => {
    if (open) {
      Object.assign(form, { account_name: '', owner_address: '', level: '', until: '', reason: '', emergency: false })
      error.value = asked.value = null
    }
  },
)

async function ask(): Promise<void> {
  error.value = null
  try {
    const { until: last, ...rest } = form
    asked.value = await send('POST', '/requests', { ...rest, level: form.level || null, parts: known.value ? parts.value : [], last_day: last || null })
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" :title="gettext('Ask for access')" @close="emit('close')">
    <div v-if="asked" class="mt-4" role="status">
      <p v-if="asked.state === 'granted'">{{ gettext('Given at once, because this is an emergency. Its system has yet to open it: you will be told when it has. Everyone who decides about it knows, and it will be in the next review.') }}</p>
      <p v-else>{{ gettext('Asked. You will be told what comes of it') }}<template v-if="asked.times_asked > 1">{{ gettext('; your request that was waiting already says this now') }}</template>.</p>
      <button class="button-main mt-4" @click="emit('close')">{{ gettext('Done') }}</button>
    </div>
    <form v-else class="mt-4 space-y-4" @submit.prevent="ask">
      <label class="block font-semibold">{{ gettext('The account’s name') }} <input v-model="form.account_name" class="field mt-1 font-normal" :placeholder="gettext('Its exact name')" /></label>
      <label class="block font-semibold">{{ gettext('Or its owner’s address') }} <span class="font-normal text-soft">{{ gettext('(when you don’t know the name)') }}</span><input v-model="form.owner_address" type="email" class="field mt-1 font-normal" /></label>
      <div class="grid gap-4 sm:grid-cols-2">
        <label class="block font-semibold">{{ gettext('Level') }} <span class="font-normal text-soft">{{ gettext('(if you know it)') }}</span>
          <RecordPicker of="levels" :label="gettext('Level')" class="mt-1" :placeholder="gettext('Let the owner choose')" filter="single eq false" :model-value="form.level || null" @update:model-value="form.level = $event ?? ''" />
        </label>
        <DayField v-model="form.until" end :label="gettext('Last day')" />
      </div>
      <PartPicker v-if="known && page.data.value" v-model="parts" :parts="page.data.value.parts" />
      <label class="block font-semibold">{{ gettext('Why') }} <textarea v-model="form.reason" required minlength="3" rows="2" class="field mt-1 font-normal" /></label>
      <label class="block"><input v-model="form.emergency" type="checkbox" class="accent-moss" /> {{ gettext('It is an emergency: give it to me at once, for a few hours.') }} <span class="text-soft">{{ gettext('Everyone who decides about the account is told.') }}</span></label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="emit('close')">{{ gettext('Cancel') }}</button><button class="button-main">{{ form.emergency ? gettext('Have it at once') : gettext('Ask') }}</button></div>
    </form>
  </ModalBox>
</template>
