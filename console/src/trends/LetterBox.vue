<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'

import ProblemNote from '@/frame/ProblemNote.vue'
import { get, send } from '@/service/api'

/** Whether the figures of each month come by mail. */
const own = useQuery({ key: ['me', 'sign-in'], query: () => get('/me/sign-in') })
const failed = ref<unknown>(null)

async function want(wants: boolean): Promise<void> {
  failed.value = null
  try {
    await send('POST', '/me/trends', { wants })
  } catch (problem) {
    failed.value = problem
  }
  await own.refetch()
}
</script>

<template>
  <section v-if="own.data.value" class="card p-5" :aria-label="gettext('The monthly letter')">
    <label class="flex items-center gap-2">
      <input type="checkbox" class="accent-moss" :checked="own.data.value.wants_trends" @change="want(($event.target as HTMLInputElement).checked)" />
      {{ gettext('Send me the figures of each month by mail, in the first days of the next') }}
    </label>
    <ProblemNote :error="failed" />
  </section>
</template>
