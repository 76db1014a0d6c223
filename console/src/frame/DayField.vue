<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useDebounceFn } from '@vueuse/core'
import { computed, ref, useAttrs, useId, useTemplateRef, watch } from 'vue'

import { CallFailed, get } from '@/service/api'

import { day, isEnglish, longDay, monthFirst } from './words'

/** A day (2026-03-31; empty for none), typed as people do or picked in the calendar. */
const picked = defineModel<string | null>({ required: true })
const props = defineProps<{ label?: string; note?: string; end?: boolean; past?: boolean }>()
defineOptions({ inheritAttrs: false })

const ISO = /^\d{4}-\d{2}-\d{2}$/
const attributes = useAttrs()
const field = useTemplateRef('field')
const calendar = useTemplateRef('calendar')
const typed = ref('')
const problem = ref('')
const ident = useId()
const hint = useId()

/** As it can be typed again: only English is read. */
const written = (date: string) => (isEnglish() ? day(date) : date)

const said = computed(() => {
  if (problem.value) return problem.value
  return picked.value ? `${longDay(picked.value)}${props.end ? gettext(', to the end of that day') : ''}` : ''
})

// The day that what is typed stands for; any other comes from outside.
let own: string | null = null

watch(
  picked,
  (value) => {
    if (value === own) return
    own = value
    typed.value = value ? written(value) : ''
    refuse('')
  },
  { immediate: true },
)

function take(value: string): void {
  own = value
  picked.value = value
}

/** What is typed and not read can't be sent. */
function refuse(why: string): void {
  problem.value = why
  field.value?.setCustomValidity(why)
}

const read = useDebounceFn(async (words: string) => {
  if (words !== typed.value) return
  try {
    const found = await get('/days', { words, past: props.past, month_first: monthFirst() })
    if (words !== typed.value) return
    refuse('')
    take(found.day)
  } catch (fault) {
    if (words === typed.value) refuse(fault instanceof CallFailed ? `${fault.problem.detail} ${fault.problem.remedy ?? ''}` : gettext('This day could not be read.'))
  }
}, 250)

function type(words: string): void {
  typed.value = words
  if (!words.trim()) {
    refuse('')
    take('')
  } else if (ISO.test(words.trim()) && !Number.isNaN(Date.parse(words.trim()))) {
    refuse('')
    take(words.trim())
  } else {
    take('')
    field.value?.setCustomValidity(gettext('This day is being read.'))
    void read(words)
  }
}

/** When it is left, the day stands as the person writes it. */
function leave(): void {
  if (picked.value) typed.value = written(picked.value)
}

function pick(value: string): void {
  refuse('')
  take(value)
  typed.value = value ? written(value) : ''
}
</script>

<template>
  <span class="block" :class="attributes.class">
    <label v-if="label" :for="ident" class="mb-1 block font-semibold">{{ label }} <span v-if="note" class="font-normal text-soft">({{ note }})</span></label>
    <span class="relative block">
      <input
        :id="ident"
        ref="field"
        v-bind="{ ...attributes, class: undefined }"
        :value="typed"
        type="text"
        autocomplete="off"
        :placeholder="String(attributes.placeholder ?? (past ? gettext('e.g. 31 Mar, 6 weeks ago') : gettext('e.g. 31 Mar, in 6 weeks')))"
        class="field w-full pr-9 font-normal"
        :aria-invalid="Boolean(problem) || undefined"
        :aria-describedby="hint"
        @input="type(($event.target as HTMLInputElement).value)"
        @blur="leave"
      />
      <button type="button" class="absolute inset-y-0 right-0 grid w-9 place-items-center rounded-md text-soft hover:text-ink disabled:opacity-40" :aria-label="gettext('Open the calendar')" :disabled="Boolean(attributes.disabled)" @click.prevent="calendar?.showPicker()">
        <svg viewBox="0 0 16 16" class="size-4" fill="none" stroke="currentColor" stroke-width="1.4" aria-hidden="true"><rect x="1.7" y="3" width="12.6" height="11" rx="1.5" /><path d="M1.7 6.5h12.6M5 1.2v3M11 1.2v3" /></svg>
      </button>
      <input ref="calendar" type="date" :value="picked" tabindex="-1" aria-hidden="true" class="pointer-events-none absolute right-0 bottom-0 size-0 opacity-0" @change="pick(($event.target as HTMLInputElement).value)" />
    </span>
    <span :id="hint" class="mt-0.5 block text-sm font-normal" :class="problem ? 'text-rust' : 'text-soft'" aria-live="polite">{{ said }}</span>
  </span>
</template>
