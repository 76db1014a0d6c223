<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'

import { get } from '@/data/api'
import type { AccountPage, FlagRow, Path, Rows } from '@/data/types'
import { lanesOption } from '@/lib/charts'
import { isDark } from '@/lib/theme'
import { SENSITIVITY_WORDS, counted, plain } from '@/lib/words'
import ChartBox from '@/parts/ChartBox.vue'
import HolderName from '@/parts/HolderName.vue'
import PageHead from '@/parts/PageHead.vue'
import PathList from '@/parts/PathList.vue'
import RevokeDialog from '@/parts/RevokeDialog.vue'
import SeverityMark from '@/parts/SeverityMark.vue'
import StateNote from '@/parts/StateNote.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({
  key: () => ['account', props.id],
  query: () => get<AccountPage>(`/accounts/${props.id}`),
})
const flags = useQuery({
  key: () => ['flags', 'of account', props.id],
  query: () => get<Rows<FlagRow>>('/flags', { filter: `account.id eq "${props.id}" and state eq "open"`, limit: 8 }),
})

const ending = ref<Path | null>(null)
const timed = computed(() => data.value?.paths.filter((path) => !path.owns) ?? [])
const option = computed(() => (isDark.value, lanesOption(timed.value, Date.now())))
const summary = computed(() => {
  const paths = data.value?.paths ?? []
  const holders = new Set(paths.map((path) => path.holder.id)).size
  return `${counted(holders, 'person or app', 'people and apps')} by ${counted(paths.length, 'path')}`
})
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <PageHead :title="data.name" :about="data.purpose">
      <dl class="flex flex-wrap gap-x-6 gap-y-1">
        <div><dt class="text-sm text-soft">Sensitivity</dt><dd class="font-semibold">{{ SENSITIVITY_WORDS[data.sensitivity] }}</dd></div>
        <div><dt class="text-sm text-soft">Owner</dt><dd class="font-semibold">{{ data.owner?.name ?? 'nobody' }}</dd></div>
        <div><dt class="text-sm text-soft">Lives in</dt><dd class="font-semibold">{{ data.system.name }}</dd></div>
        <div v-if="data.answers_for"><dt class="text-sm text-soft">Sessions</dt><dd class="font-semibold">{{ data.sessions }}</dd></div>
      </dl>
    </PageHead>
    <section v-if="flags.data.value?.rows.length" class="card mb-6 border-l-4 border-l-rust" aria-labelledby="flags">
      <h2 id="flags" class="px-5 pt-3 text-lg">Flags</h2>
      <ul class="divide-y divide-line">
        <li v-for="flag in flags.data.value.rows" :key="flag.id" class="flex items-start gap-3 px-5 py-2">
          <SeverityMark :severity="flag.severity" class="w-22 shrink-0" />
          <p>{{ flag.sentence }}</p>
        </li>
      </ul>
    </section>
    <h2 class="mb-2 text-xl">
      {{ data.answers_for ? 'Everyone and everything that can reach it' : 'How you reach it' }}
      <span class="ml-2 font-sans text-base font-normal text-soft">{{ summary }}</span>
    </h2>
    <PathList v-if="data.paths.length" :paths="data.paths" by="holder" :can-end="data.answers_for" @end="ending = $event" />
    <StateNote v-else status="success" empty empty-text="Nobody can reach it." />
    <template v-if="data.not_in_force.length">
      <h2 class="mt-6 mb-2 text-xl">Not in force</h2>
      <ul class="card divide-y divide-line">
        <li v-for="grant in data.not_in_force" :key="grant.id" class="flex flex-wrap gap-x-4 px-5 py-2.5">
          <HolderName :holder="grant.holder" class="min-w-48" />
          <span>{{ grant.level }}</span>
          <span class="text-soft">{{ plain(grant.state) }}: {{ grant.reason }}</span>
        </li>
      </ul>
    </template>
    <section v-if="timed.length > 1" class="mt-6" aria-labelledby="lanes">
      <h2 id="lanes" class="text-xl">When it ends</h2>
      <p class="mb-2 text-soft">A post marks an end; a pale bar has none. Red can spend or decide who else gets in.</p>
      <ChartBox class="card p-2" :option="option" :height="48 + timed.length * 26" label="Lanes of access with their ends; the list above says the same" />
    </section>
    <RevokeDialog :open="ending !== null" :grants="ending?.grant_id ? [ending.grant_id] : []" @close="ending = null" @started="ending = null" />
  </template>
</template>
