<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { RuleEffect } from '@/service/types'

defineProps<{ effects: RuleEffect[] }>()
</script>

<template>
  <p v-if="!effects.length" class="mt-2 text-soft" role="status">{{ gettext('No flag would change.') }}</p>
  <ul v-else class="mt-2 divide-y divide-line" role="status">
    <li v-for="effect in effects" :key="effect.rule" class="py-2">
      <p class="font-medium">{{ effect.title }}</p>
      <p class="tabular-nums">
        <span v-if="effect.raised" class="font-semibold text-rust">{{ gettext('%{raised} raised', { raised: effect.raised }) }}</span>
        <span v-if="effect.cleared" class="font-semibold text-moss"><template v-if="effect.raised">, </template>{{ gettext('%{cleared} cleared', { cleared: effect.cleared }) }}</span>
        <span v-if="effect.rescored" class="text-soft"><template v-if="effect.raised || effect.cleared">, </template>{{ gettext('%{rescored} with another score', { rescored: effect.rescored }) }}</span>
      </p>
      <details v-if="effect.examples.length" class="text-sm">
        <summary class="cursor-pointer text-soft">{{ gettext('For example') }}</summary>
        <p v-for="example in effect.examples" :key="example.sentence" class="mt-1">{{ example.what === 'raised' ? '+' : '–' }} {{ example.sentence }}</p>
      </details>
    </li>
  </ul>
</template>
