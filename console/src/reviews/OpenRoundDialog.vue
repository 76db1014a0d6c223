<script setup lang="ts">
import { ref } from 'vue'
import { useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { freshReview } from '@/exposure/drafts'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReviewForm from './ReviewForm.vue'

defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()
const draft = ref(freshReview())
const error = ref<unknown>(null)

async function start(): Promise<void> {
  error.value = null
  try {
    const found = await send('POST', '/rounds', draft.value)
    emit('close')
    await router.push(`/rounds/${found.id}`)
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" :title="gettext('Open a review round')" @close="$emit('close')">
    <form class="mt-4 space-y-4" @submit.prevent="start">
      <ReviewForm v-model="draft" />
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">{{ gettext('Cancel') }}</button>
        <button class="button-main">{{ gettext('Open the round') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
