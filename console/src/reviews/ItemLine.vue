<script setup lang="ts">
import { computed } from 'vue'

import { gettext, ngettext } from '@/frame/language'
import type { ItemRow } from '@/service/types'
import { DONE_WORDS } from './reviews'
import { SEVERITY_WORDS, ago } from '@/frame/words'

import ReachMark from '@/frame/ReachMark.vue'

const props = defineProps<{ item: ItemRow; here: boolean; picked: boolean; picks: boolean }>()
defineEmits<{ open: []; pick: [] }>()
const state = computed(() => {
  const { item } = props
  if (!item.verdict) return item.question && !item.question.answered_at ? gettext('asked') : gettext('undecided')
  const word = DONE_WORDS[item.verdict]
  return item.state === 'seconding' ? gettext('%{word}, to be agreed', { word }) : item.fate ? gettext('%{word}, by default', { word }) : word
})
</script>

<template>
  <li class="flex items-stretch border-t border-line first:border-t-0" :class="here ? 'bg-sky-wash' : 'hover:bg-sky-wash/50'">
    <label v-if="picks" class="flex items-center pl-4"><input type="checkbox" class="size-6 accent-moss" :checked="picked" :aria-label="gettext('Pick item %{position}', { position: item.position })" @change="$emit('pick')" /></label>
    <button
      class="-outline-offset-2 grid min-w-0 flex-1 grid-cols-[1.75rem_1fr_auto] items-baseline gap-x-3 gap-y-0.5 px-4 py-2.5 text-left"
      :aria-current="here ? 'true' : undefined"
      :data-test="`item-${item.position}`"
      @click="$emit('open')"
    >
      <span class="text-sm text-soft tabular-nums">{{ item.position }}</span>
      <span class="min-w-0"><span class="font-medium">{{ item.holder.name }}</span> <span class="text-soft">{{ gettext('in %{account}', { account: item.facts.account.name }) }}</span></span>
      <span class="text-sm" :class="item.verdict ? 'font-semibold' : 'text-soft'">{{ state }}</span>
      <span />
      <span class="min-w-0 text-sm text-soft">{{ item.level }}<template v-if="item.facts.last_used_at !== undefined">, {{ item.facts.last_used_at ? gettext('used %{last_used_at}', { last_used_at: ago(item.facts.last_used_at) }) : gettext('never used') }}</template></span>
      <span class="flex items-center gap-2 text-sm">
        <span v-if="item.flagged" :class="item.severity >= 3 ? 'font-semibold text-rust' : 'text-brass'">{{ ngettext('%{n} flag', '%{n} flags', item.flagged) }}, {{ SEVERITY_WORDS[item.severity] }}</span>
        <ReachMark v-else-if="item.reach" :reach="item.reach" />
      </span>
    </button>
  </li>
</template>
