<script setup lang="ts">
import { computed } from 'vue'

import { gettext } from '@/frame/language'
import type { SystemRow } from '@/service/types'
import { moment } from '@/frame/words'

const props = defineProps<{ systems: SystemRow[] }>()
defineEmits<{ pick: [system: SystemRow] }>()
const most = computed(() => Math.max(1, ...props.systems.map((system) => Math.max(system.missing, system.unrecorded) + system.changed / 2)))

function share(count: number): string {
  return `${(count / most.value) * 96}%`
}
</script>

<template>
  <ul class="space-y-1.5">
    <li v-for="system in systems" :key="system.id" class="grid items-center gap-x-4 sm:grid-cols-[13rem_1fr_15rem]">
      <button class="link py-1 text-left" @click="$emit('pick', system)">{{ system.name }}</button>
      <div class="flex h-5 items-stretch" aria-hidden="true">
        <span class="flex flex-1 justify-end"><span class="rounded-l-sm bg-rust" :style="{ width: share(system.missing) }" /></span>
        <span class="min-w-0.5 border-x border-soft/50 bg-brass" :style="{ width: system.changed ? share(system.changed) : '2px' }" />
        <span class="flex-1"><span class="block h-full rounded-r-sm bg-link" :style="{ width: share(system.unrecorded) }" /></span>
      </div>
      <p class="text-sm text-soft tabular-nums">
        <template v-if="system.reading_since">{{ gettext('being read: %{reading_seen} seen', { reading_seen: system.reading_seen }) }}</template>
        <template v-else-if="system.down_since"><strong class="text-rust">{{ gettext('down') }}</strong> {{ gettext('since %{down_since}', { down_since: moment(system.down_since) }) }}</template>
        <template v-else>{{ gettext('%{missing} missing, %{changed} different, %{unrecorded} unrecorded', { missing: system.missing, changed: system.changed, unrecorded: system.unrecorded }) }}</template>
      </p>
    </li>
  </ul>
</template>
