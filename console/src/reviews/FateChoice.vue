<script setup lang="ts">
import { gettext } from '@/frame/language'
import { FATES } from './reviews'
import { REACHES, REACH_PLAIN } from '@/frame/words'

const fates = defineModel<Record<string, string>>({ required: true })
</script>

<template>
  <fieldset>
    <legend class="font-semibold">{{ gettext('Undecided items') }}</legend>
    <div class="mt-1 grid gap-x-4 gap-y-1.5 sm:grid-cols-2">
      <label v-for="(reach, index) in REACHES" :key="reach" class="flex flex-col justify-end">
        <span class="text-sm text-soft">{{ gettext('where it %{reach}', { reach: REACH_PLAIN[index + 1] }) }}</span>
        <select v-model="fates[reach]" class="field"><option v-for="[value, words] in FATES" :key="value" :value="value">{{ words }}</option></select>
      </label>
    </div>
  </fieldset>
</template>
