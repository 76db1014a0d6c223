<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { computed, ref, watch } from 'vue'

import { get } from '@/data/api'
import { useList } from '@/data/list'
import { me } from '@/data/me'
import type { ItemRow, RoundPage } from '@/data/types'
import { counted, day, moment } from '@/lib/words'
import CloseRoundDialog from '@/parts/CloseRoundDialog.vue'
import ItemDecision from '@/parts/ItemDecision.vue'
import ItemLine from '@/parts/ItemLine.vue'
import ListTools from '@/parts/ListTools.vue'
import PageHead from '@/parts/PageHead.vue'
import StateNote from '@/parts/StateNote.vue'

const props = defineProps<{ id: string }>()
const round = useQuery({ key: () => ['round', props.id], query: () => get<RoundPage>(`/rounds/${props.id}`) })
const UNDECIDED = 'not (verdict pr)'
const { rows, count, status, error, search, filter, hasMore, hasLess, more, less, refetch } = useList<ItemRow>('items', '', `/rounds/${props.id}/items`)

const openId = ref<string | null>(null)
const isClosing = ref(false)
const data = computed(() => round.data.value)
const about = computed(() => {
  const found = data.value
  if (!found) return ''
  const when = found.closed_at ? `Closed ${moment(found.closed_at)}; nothing in it can change.` : `Due ${day(found.due_at)}.`
  return `${found.decided} of ${found.items} decided: ${found.kept} kept, ${found.trimmed} trimmed, ${found.revoked} revoked. ${when}`
})

/** After a decision the next undecided line opens, so that one goes through by keyboard. */
function goOn(from: ItemRow): void {
  const next = rows.value.find((row) => row.position > from.position && !row.verdict)
  openId.value = next?.id ?? null
}

watch(rows, (found) => {
  if (openId.value && !found.some((row) => row.id === openId.value)) openId.value = null
})
</script>

<template>
  <StateNote :status="round.status.value" :error="round.error.value" @retry="round.refetch()" />
  <template v-if="data">
    <PageHead :title="data.name" :about="about">
      <button v-if="me?.administrator && !data.closed_at" class="button-main" @click="isClosing = true">Close the round</button>
    </PageHead>
    <progress :value="data.decided" :max="data.items" class="mb-2 h-3 w-full accent-moss" aria-label="Decided" />
    <ul class="mb-5 flex flex-wrap gap-x-6 text-soft">
      <li v-for="reviewer in data.reviewers" :key="reviewer.name ?? ''">
        {{ reviewer.name ?? 'Nobody yet' }}: {{ reviewer.decided }} of {{ counted(reviewer.items, 'item') }}, {{ reviewer.kept }} kept
      </li>
    </ul>
    <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="items" :choices="[{ label: 'All', filter: '' }, { label: 'Undecided', filter: UNDECIDED }, { label: 'Decided', filter: 'verdict pr' }]" />
    <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="Nothing is left to decide here." @retry="refetch" />
    <ol v-if="rows.length" class="card divide-y divide-line">
      <li v-for="item in rows" :key="item.id">
        <ItemLine :item="item" :open="openId === item.id" @toggle="openId = openId === item.id ? null : item.id" />
        <ItemDecision v-if="openId === item.id" :item="item" :closed="Boolean(data.closed_at)" :acts="data.acts" @decided="goOn(item)" />
      </li>
    </ol>
    <nav v-if="hasMore || hasLess" aria-label="Pages" class="mt-3 flex gap-2">
      <button class="button" :disabled="!hasLess" @click="less">Before</button>
      <button class="button" :disabled="!hasMore" @click="more">Next</button>
    </nav>
    <CloseRoundDialog :round="data" :open="isClosing" @close="isClosing = false" />
  </template>
</template>
