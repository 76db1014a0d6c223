<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { useList } from '@/data/list'
import { me } from '@/data/me'
import type { FlagRow } from '@/data/types'
import { day } from '@/lib/words'
import AcceptDialog from '@/parts/AcceptDialog.vue'
import ListTools from '@/parts/ListTools.vue'
import PageHead from '@/parts/PageHead.vue'
import RevokeDialog from '@/parts/RevokeDialog.vue'
import SeverityMark from '@/parts/SeverityMark.vue'
import StateNote from '@/parts/StateNote.vue'

const OPEN = 'state eq "open"'
const { rows, count, status, error, search, filter, hasMore, hasLess, more, less, refetch } = useList<FlagRow>('flags', OPEN)
const CHOICES = [
  { label: 'Open', filter: OPEN },
  { label: 'Left', filter: `${OPEN} and rule eq "holder_left"` },
  { label: 'Unrecorded', filter: `${OPEN} and rule eq "unrecorded"` },
  { label: 'Unused', filter: `${OPEN} and (rule eq "unused" or rule eq "never_used")` },
  { label: 'Accepted', filter: 'state eq "accepted"' },
  { label: 'Cleared', filter: 'state eq "cleared"' },
]
const accepting = ref<FlagRow | null>(null)
const ending = ref<FlagRow | null>(null)

function answersFor(): boolean {
  return Boolean(me.value?.administrator || me.value?.owner)
}

function of(flag: FlagRow | null, kind: string): string[] {
  return flag?.subject.kind === kind ? [flag.subject.id] : []
}

function parts(flag: FlagRow): string {
  return Object.entries(flag.parts).map(([name, points]) => `${name} ${points}`).join(', ')
}
</script>

<template>
  <PageHead title="Flags" about="What is stale or risky, worst first. A flag clears by itself when its facts change." />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="flags" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No flag is like that." @retry="refetch" />
  <ul v-if="status === 'success' && rows.length" class="card divide-y divide-line">
    <li v-for="flag in rows" :key="flag.id" class="grid gap-x-4 gap-y-2 px-5 py-3 md:grid-cols-[8.5rem_1fr_auto]">
      <div>
        <SeverityMark :severity="flag.severity" :score="flag.score" />
      </div>
      <div>
        <p class="font-medium">{{ flag.sentence }}</p>
        <p class="text-sm text-soft">
          {{ flag.title }}. {{ flag.remedy }} Score: {{ parts(flag) }}. Raised {{ day(flag.raised_at) }}.
          <RouterLink :to="`/accounts/${flag.account.id}`" class="link">Open {{ flag.account.name }}</RouterLink>
        </p>
        <p v-if="flag.state === 'accepted'" class="text-sm">
          Accepted by {{ flag.accepted_by?.name }} until {{ day(flag.accepted_until) }}: {{ flag.accepted_reason }}
        </p>
      </div>
      <div v-if="flag.state === 'open' && answersFor()" class="flex gap-2 md:flex-col lg:flex-row">
        <button class="button" @click="accepting = flag">Accept<span class="sr-only"> {{ flag.sentence }}</span></button>
        <button class="button-end" @click="ending = flag">{{ flag.subject.kind === 'session' ? 'End session' : 'End access' }}<span class="sr-only"> {{ flag.sentence }}</span></button>
      </div>
    </li>
  </ul>
  <nav v-if="hasMore || hasLess" aria-label="Pages" class="mt-3 flex gap-2">
    <button class="button" :disabled="!hasLess" @click="less">Before</button>
    <button class="button" :disabled="!hasMore" @click="more">Next</button>
  </nav>
  <AcceptDialog :flag="accepting" @close="accepting = null" />
  <RevokeDialog :open="ending !== null" :grants="of(ending, 'grant')" :sessions="of(ending, 'session')" @close="ending = null" @started="ending = null" />
</template>
