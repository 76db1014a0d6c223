<script setup lang="ts">
import { gettext } from '@/frame/language'
import { defineAsyncComponent, ref } from 'vue'

/** `docs` is the page of the documentation about it, as in "how-to/review"; `words` are those of the glossary that it uses. */
defineProps<{ title: string; about?: string; docs?: string; words?: string[] }>()
const areWordsOpen = ref(false)
// Loaded when somebody asks for them.
const WordTips = defineAsyncComponent(() => import('./WordTips.vue'))
</script>

<template>
  <div class="mb-4 flex flex-wrap items-end gap-x-4 gap-y-2">
    <div class="min-w-0 flex-1 basis-72">
      <h1 class="text-3xl">{{ title }}</h1>
      <p v-if="about || docs || words" class="mt-0.5 max-w-3xl text-soft">
        {{ about }}
        <a v-if="docs" :href="`/docs/${docs}.html`" class="link mr-2 whitespace-nowrap print:hidden" target="_blank" rel="noopener">{{ gettext('How this works') }}<span class="sr-only">{{ ` ${gettext('(opens in a new tab)')}` }}</span></a>
        <template v-if="words">{{ ' ' }}<button class="link whitespace-nowrap print:hidden" :aria-expanded="areWordsOpen" @click="areWordsOpen = !areWordsOpen">{{ gettext('Words on this page') }}</button></template>
      </p>
      <WordTips v-if="words && areWordsOpen" :words="words" />
    </div>
    <slot />
  </div>
</template>
