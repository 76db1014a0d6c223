<script setup lang="ts">
/** The outsiders who get into an account by access rules, the first few, with how many there are. */
import { RouterLink } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import type { ExposureRow, Rows } from '@/service/types'
import { judgedWords } from '@/exposure/exposure'

defineProps<{ account: string; exposures: Rows<ExposureRow> }>()
const MOST_SHOWN = 6
</script>

<template>
  <section class="card mb-6 p-5" aria-labelledby="exposed">
    <h2 id="exposed" class="text-xl">{{ gettext('Outsiders who get in by access rules') }}</h2>
    <ul class="mt-1 divide-y divide-line">
      <li v-for="row in exposures.rows.slice(0, MOST_SHOWN)" :key="row.id" class="flex flex-wrap gap-x-4 py-1.5">
        <span class="flex-1">{{ row.sentence }}</span><span class="text-soft">{{ judgedWords(row) }}</span>
      </li>
    </ul>
    <p class="mt-2"><RouterLink class="link" :to="{ path: '/exposures', query: { filter: `account.id eq &quot;${account}&quot;` } }">{{ gettext('Judge and close them: %{count}', { count: ngettext('%{n} exposure', '%{n} exposures', exposures.count ?? exposures.rows.length) }) }}</RouterLink></p>
  </section>
</template>
