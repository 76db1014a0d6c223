<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'

import { get } from '@/service/api'
import { progressOption } from '@/access/charts'
import { isDark } from '@/frame/theme'
import { counted, day } from '@/frame/words'

import ChartBox from '@/frame/ChartBox.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({ key: () => ['round', props.id, 'progress'], query: () => get(`/rounds/${props.id}/progress`) })
const option = computed(() => (void isDark.value, data.value ? progressOption(data.value, Date.now()) : {}))
const left = computed(() => (data.value?.by_account ?? []).filter((account) => account.decided < account.items).slice(0, 10))
const label = computed(() => {
  const found = data.value
  if (!found) return ''
  const days = found.by_day.map((one) => `${one.day}: ${one.decided}`).join(', ')
  return `Items left by day, out of ${found.items}. Decided ${days || 'nothing yet'}. Due ${day(found.due_at)}.`
})
</script>

<template>
  <section class="card mb-5 grid gap-6 p-5 lg:grid-cols-[3fr_2fr]" aria-label="Progress">
    <StateNote :status="status" :error="error" @retry="refetch" />
    <template v-if="data">
      <div>
        <h2 class="text-xl">Items left, day by day</h2>
        <p class="text-soft">{{ data.late ? `${counted(data.late, 'item')} late since ${day(data.due_at)}.` : `Due ${day(data.due_at)}.` }}</p>
        <ChartBox :option="option" :label="label" :height="230" />
      </div>
      <div class="space-y-4">
        <div>
          <h2 class="text-xl">By reviewer</h2>
          <ul class="divide-y divide-line">
            <li v-for="one in data.by_reviewer" :key="one.name ?? ''" class="py-1.5">
              <span class="flex gap-3"><span class="flex-1 font-medium">{{ one.name ?? 'Nobody yet' }}</span><span class="tabular-nums">{{ one.items ? `${one.left} of ${one.items} left` : `${one.decided} decided` }}</span></span>
              <progress v-if="one.items" :value="one.items - one.left" :max="one.items" class="h-1.5 w-full accent-moss" :aria-label="`Progress of ${one.name ?? 'nobody yet'}`" />
              <span v-if="one.by_others || one.by_default" class="block text-sm text-soft">{{ [one.by_others ? `${one.by_others} decided by others` : '', one.by_default ? `${one.by_default} decided by nobody` : ''].filter(Boolean).join(', ') }}</span>
              <span v-if="one.share_kept !== null" class="text-sm text-soft">{{ one.decided }} decided, {{ Math.round(one.share_kept * 100) }} % kept<template v-if="one.seconds_between !== null">, {{ Math.round(one.seconds_between) }} s between decisions</template></span>
            </li>
          </ul>
        </div>
        <div v-if="left.length">
          <h2 class="text-xl">Most is left in</h2>
          <ul><li v-for="one in left" :key="one.name" class="flex gap-3 py-0.5"><span class="flex-1">{{ one.name }}</span><span class="tabular-nums text-soft">{{ one.items - one.decided }} of {{ one.items }}</span></li></ul>
        </div>
      </div>
    </template>
  </section>
</template>
