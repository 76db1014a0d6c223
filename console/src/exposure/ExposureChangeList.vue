<script setup lang="ts">
import { computed } from 'vue'

import { gettext } from '@/frame/language'
import type { ExposureChanges } from '@/service/types'

const props = defineProps<{ changes: Pick<ExposureChanges, 'counts' | 'lines' | 'more'> }>()
const shown = computed(() => props.changes.lines.filter((line) => line.change !== 'unchanged'))
const WORDS = { new: gettext('opens'), gone: gettext('closes'), changed: gettext('changes'), unchanged: gettext('stays') } as const
const COLOURS = { new: 'text-rust', gone: 'text-moss', changed: 'text-brass', unchanged: 'text-soft' } as const
</script>

<template>
  <p class="text-soft" data-test="counts">{{ gettext('%{new} would open, %{gone} would close, %{changed} would change, %{unchanged} stay as they are.', { new: changes.counts.new, gone: changes.counts.gone, changed: changes.counts.changed, unchanged: changes.counts.unchanged }) }}</p>
  <ul v-if="shown.length" class="mt-2 divide-y divide-line">
    <li v-for="line in shown" :key="line.account.id + (line.resource?.id ?? '') + line.right" class="grid grid-cols-[5.5rem_1fr] gap-x-3 py-2">
      <strong :class="COLOURS[line.change]">{{ WORDS[line.change] }}{{ line.change === 'changed' && line.grew ? gettext(', wider') : '' }}</strong>
      <div>
        <p>{{ line.sentence }} <span class="text-soft">{{ gettext('%{account}; by %{rules}', { account: line.account.name, rules: line.rules.join(', ') }) }}<template v-if="line.narrowed_by.length">{{ gettext(', narrowed by %{narrowed_by}', { narrowed_by: line.narrowed_by.join(', ') }) }}</template>.</span></p>
        <p v-if="line.change === 'changed' && line.gained.length" class="text-sm text-rust">{{ gettext('Also lets in: %{gained}.', { gained: line.gained.join('; ') }) }}</p>
        <p v-if="line.change === 'changed' && line.lost.length" class="text-sm text-moss">{{ gettext('No longer lets in: %{lost}.', { lost: line.lost.join('; ') }) }}</p>
        <p v-if="line.forbidden && line.change !== 'gone'" class="text-sm text-rust">{{ gettext('Breaks a guard.') }}</p>
        <p v-for="text in line.not_understood" :key="text" class="text-sm text-brass">{{ gettext('Not understood, and counted as open: %{text}', { text }) }}</p>
      </div>
    </li>
  </ul>
  <p v-if="changes.more" class="mt-2 text-soft">{{ gettext('And %{more} more.', { more: changes.more }) }}</p>
</template>
