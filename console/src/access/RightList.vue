<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { Right } from '@/service/types'

import ReachMark from '@/frame/ReachMark.vue'

defineProps<{ can: Right[]; cannot: Right[]; adds?: Right[] }>()
</script>

<template>
  <ul class="space-y-1">
    <li v-for="right in can" :key="right.key" class="flex flex-wrap items-baseline gap-x-3">
      <span class="w-16 font-semibold text-moss">{{ gettext('can') }}</span>
      <span class="flex-1">{{ right.sentence }}<span v-if="adds && !adds.some((a) => a.key === right.key)" class="text-soft">{{ ` ${gettext('(already)')}` }}</span></span>
      <ReachMark :reach="right.reach" />
    </li>
    <li v-for="right in cannot" :key="right.key" class="flex flex-wrap items-baseline gap-x-3 text-soft">
      <span class="w-16 font-semibold">{{ gettext('cannot') }}</span>
      <span class="flex-1">{{ right.sentence }}</span>
      <ReachMark :reach="right.reach" />
    </li>
  </ul>
</template>
