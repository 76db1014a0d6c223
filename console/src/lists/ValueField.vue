<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { refDebounced } from '@vueuse/core'
import { computed, useId } from 'vue'

import { get } from '@/service/api'

/** A value to compare with; those that occur are suggested. */
const value = defineModel<string>({ required: true })
const props = defineProps<{ list: string; attribute: string; label: string }>()
const ident = useId()
const sought = refDebounced(value, 200)
const { data } = useQuery({
  key: () => ['values', props.list, props.attribute, sought.value],
  query: () => get(`/attributes/${props.list}/values`, { attribute: props.attribute, words: sought.value }),
  enabled: () => props.attribute !== '',
  placeholderData: (before) => before,
})
const suggested = computed(() => (data.value?.values ?? []).filter((one) => one !== value.value))
</script>

<template>
  <span>
    <input v-model="value" class="field" :list="ident" :disabled="!attribute" :aria-label="label" autocomplete="off" />
    <datalist :id="ident"><option v-for="one in suggested" :key="one" :value="one" /></datalist>
  </span>
</template>
