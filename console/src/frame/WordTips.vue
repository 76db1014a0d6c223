<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'

import { get } from '@/service/api'

/** Words of the glossary that a page uses, with their meanings. */
const props = defineProps<{ words: string[] }>()
const glossary = useQuery({ key: ['words'], query: () => get('/words'), staleTime: Infinity })
const meanings = computed(() => glossary.data.value?.words.filter((one) => props.words.includes(one.word)) ?? [])
</script>

<template>
  <div class="mt-2 max-w-3xl rounded-md border border-line bg-card p-3 text-sm">
    <dl class="space-y-1.5">
      <div v-for="one in meanings" :key="one.word">
        <dt class="inline font-semibold">{{ one.word }}:</dt>
        <dd class="inline"> {{ one.meaning }}</dd>
      </div>
    </dl>
    <p v-if="glossary.isPending.value">{{ gettext('Looking them up …') }}</p>
    <a href="/docs/reference/words.html" class="link mt-2 inline-block" target="_blank" rel="noopener">{{ gettext('All words') }}<span class="sr-only">{{ ` ${gettext('(opens in a new tab)')}` }}</span></a>
  </div>
</template>
