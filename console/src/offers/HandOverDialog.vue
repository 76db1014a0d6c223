<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { AccountPage, OfferRow } from '@/service/types'
import { moment } from '@/frame/words'

import ModalBox from '@/frame/ModalBox.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import { levelsOf } from '@/grants/queries'

const props = defineProps<{ open: boolean; account: AccountPage }>()
defineEmits<{ close: [] }>()
const form = reactive({ to: '', keeps: '', reason: '' })
const error = ref<unknown>(null)
const sent = ref<OfferRow | null>(null)
const MAY_OWN = 'standing eq "current" and address_confirmed_at pr'
const levels = useQuery(levelsOf(() => props.account.system.id, () => props.open))

async function offer(): Promise<void> {
  error.value = null
  try {
    const headers = { 'If-Match': `"${props.account.version}"` }
    sent.value = await proving(() => send('POST', `/accounts/${props.account.id}/hand-over`, { ...form, keeps: form.keeps || null }, headers))
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" :title="gettext('Hand %{account} over', { account: account.name })" @close="$emit('close')">
    <p v-if="sent" class="mt-4" role="status">{{ gettext('A link has been sent to %{person}. Nothing changes until they accept; the link expires %{runs_out_at}.', { person: sent.person.name, runs_out_at: moment(sent.runs_out_at) }) }}</p>
    <form v-else class="mt-3 space-y-4" @submit.prevent="offer">
      <p>{{ gettext('%{owner} owns it until the new owner has accepted by the link that is sent to them.', { owner: account.owner?.name ?? gettext('Nobody') }) }}</p>
      <label class="block font-semibold">{{ gettext('To whom') }} <span class="font-normal text-soft">{{ gettext('(with a confirmed address)') }}</span><RecordPicker of="people" :label="gettext('To whom')" class="mt-1" required :filter="MAY_OWN" :model-value="form.to || null" @update:model-value="form.to = $event ?? ''" /></label>
      <label class="block font-semibold">{{ gettext('What the present owner keeps') }} <select v-model="form.keeps" class="field mt-1 font-normal"><option value="">{{ gettext('Nothing') }}</option><option v-for="level in levels.data.value?.rows ?? []" :key="level.id" :value="level.id">{{ level.name }}</option></select></label>
      <label class="block font-semibold">{{ gettext('Why') }} <input v-model="form.reason" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Send the link') }}</button></div>
    </form>
  </ModalBox>
</template>
