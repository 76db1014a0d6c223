<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { RoundRow } from '@/service/types'
import { day } from '@/frame/words'
import OpenRoundDialog from './OpenRoundDialog.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import ScheduleBox from './ScheduleBox.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, status, error, sort, hasMore, hasLess, more, less, refetch } = useList<RoundRow>('rounds')
const isOpening = ref(false)
const COLUMNS = [
  { name: 'name', label: 'Round', sort: 'name' },
  { name: 'progress', label: 'Decided' },
  { name: 'outcome', label: 'Kept, trimmed, revoked', quiet: true },
  { name: 'due', label: 'Due', sort: 'due_at' },
  { name: 'state', label: 'State', sort: 'closed_at' },
]
</script>

<template>
  <PageHead title="Reviews" about="Rounds in which access is kept, trimmed or revoked, line by line.">
    <button v-if="me?.administrator" class="button-main" @click="isOpening = true">Open a round</button>
  </PageHead>
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No review has items for you to decide." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="Rounds" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }"><RouterLink :to="`/rounds/${row.id}`" class="link">{{ row.name }}</RouterLink></template>
    <template #progress="{ row }">
      {{ row.decided }} of {{ row.items }}
      <progress :value="row.decided" :max="row.items" class="ml-2 h-2 w-28 accent-moss" :aria-label="`Progress of ${row.name}`" />
    </template>
    <template #outcome="{ row }">{{ row.kept }}, {{ row.trimmed }}, {{ row.revoked }}</template>
    <template #due="{ row }">{{ day(row.due_at) }}</template>
    <template #state="{ row }">{{ row.closed_at ? `${row.state === 'closed' ? 'closed' : 'carrying out, closed'} ${day(row.closed_at)}` : 'open' }}</template>
  </RecordTable>
  <ScheduleBox v-if="me?.administrator" />
  <OpenRoundDialog :open="isOpening" @close="isOpening = false" />
</template>
