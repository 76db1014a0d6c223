<script setup lang="ts">
import { onMounted, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import ProblemNote from '@/frame/ProblemNote.vue'

const isDone = ref(false)
const error = ref<unknown>(null)

onMounted(async () => {
  try {
    await send('POST', '/link/confirm', { token: window.location.hash.slice(1) })
    isDone.value = true
  } catch (failed) {
    error.value = failed
  }
})
</script>

<template>
  <div class="mx-auto max-w-xl py-10">
    <h1 class="mb-4 text-3xl">{{ gettext('Your address') }}</h1>
    <p v-if="isDone" class="card p-6" role="status">{{ gettext('It is confirmed.') }} <RouterLink to="/mine" class="link">{{ gettext('Go to your access') }}</RouterLink></p>
    <ProblemNote v-else :error="error" />
  </div>
</template>
