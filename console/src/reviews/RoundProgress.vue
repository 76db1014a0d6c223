<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'

import { get } from '@/service/api'
import { progressOption } from '@/access/charts'
import { isDark } from '@/frame/theme'
import { day } from '@/frame/words'

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
  return gettext('Items left by day, out of %{items}. Decided %{days}. Due %{due_at}.', { items: found.items, days: days || gettext('nothing yet'), due_at: day(found.due_at) })
})
</script>

<template>
  <section class="card mb-5 grid gap-6 p-5 lg:grid-cols-[3fr_2fr]" :aria-label="gettext('Progress')">
    <StateNote :status="status" :error="error" @retry="refetch" />
    <template v-if="data">
      <div>
        <h2 class="text-xl">{{ gettext('Items left, day by day') }}</h2>
        <p class="text-soft">{{ data.late ? gettext('%{count} late since %{due_at}.', { count: ngettext('%{n} item', '%{n} items', data.late), due_at: day(data.due_at) }) : gettext('Due %{due_at}.', { due_at: day(data.due_at) }) }}</p>
        <ChartBox :option="option" :label="label" :height="230" />
      </div>
      <div class="space-y-4">
        <div>
          <h2 class="text-xl">{{ gettext('By reviewer') }}</h2>
          <ul class="divide-y divide-line">
            <li v-for="one in data.by_reviewer" :key="one.name ?? ''" class="py-1.5">
              <span class="flex gap-3"><span class="flex-1 font-medium">{{ one.name ?? gettext('Nobody yet') }}</span><span class="tabular-nums">{{ one.items ? gettext('%{left} of %{items} left', { left: one.left, items: one.items }) : gettext('%{decided} decided', { decided: one.decided }) }}</span></span>
              <progress v-if="one.items" :value="one.items - one.left" :max="one.items" class="h-1.5 w-full accent-moss" :aria-label="gettext('Progress of %{one}', { one: one.name ?? gettext('nobody yet') })" />
              <span v-if="one.by_others || one.by_default" class="block text-sm text-soft">{{ [one.by_others ? gettext('%{by_others} decided by others', { by_others: one.by_others }) : '', one.by_default ? gettext('%{by_default} decided by nobody', { by_default: one.by_default }) : ''].filter(Boolean).join(', ') }}</span>
              <span v-if="one.share_kept !== null" class="text-sm text-soft">{{ gettext('%{decided} decided, %{share} % kept', { decided: one.decided, share: Math.round(one.share_kept * 100) }) }}<template v-if="one.seconds_between !== null">{{ gettext(', %{seconds} s between decisions', { seconds: Math.round(one.seconds_between) }) }}</template></span>
            </li>
          </ul>
        </div>
        <div v-if="left.length">
          <h2 class="text-xl">{{ gettext('Most is left in') }}</h2>
          <ul><li v-for="one in left" :key="one.name" class="flex gap-3 py-0.5"><span class="flex-1">{{ one.name }}</span><span class="tabular-nums text-soft">{{ gettext('%{items} of %{items_2}', { items: one.items - one.decided, items_2: one.items }) }}</span></li></ul>
        </div>
      </div>
    </template>
  </section>
</template>
