<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { useList } from '@/lists/list'
import type { RevocationRow } from '@/service/types'
import { endsWords, moment } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import RevocationState from './RevocationState.vue'
import StateNote from '@/frame/StateNote.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<RevocationRow>('revocations')
const CHOICES = [
  { label: 'All', filter: '' },
  { label: 'In progress', filter: 'not (settled_at pr)' },
  { label: 'By hand', filter: 'state eq "by_hand"' },
  { label: 'Confirmed', filter: 'state eq "confirmed"' },
  { label: 'Not confirmed', filter: 'state eq "stated" or state eq "unproved" or state eq "contradicted"' },
]
const COLUMNS = [
  { name: 'title', label: 'What' },
  { name: 'state', label: 'State' },
  { name: 'steps', label: 'Steps' },
  { name: 'asked', label: 'Asked by', quiet: true },
  { name: 'when', label: 'When', sort: 'created_at', quiet: true },
]
</script>

<template>
  <PageHead title="Revocations" about="Access that was ended, and how that is known: confirmed by the system, stated by a person, or not proved." />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="revocations" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No revocations match." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="Revocations" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #title="{ row }">
      <RouterLink :to="`/revocations/${row.id}`" class="link">{{ row.title }}</RouterLink>
      <p class="text-sm font-normal text-soft">{{ row.reason }}</p>
    </template>
    <template #state="{ row }"><RevocationState :state="row.state" /><p v-if="row.settled_at" class="mt-1 text-sm text-soft">{{ endsWords(row) }}</p></template>
    <template #steps="{ row }">{{ row.steps_done }} of {{ row.steps }}</template>
    <template #asked="{ row }">{{ row.asked_by?.name ?? 'Open Latch' }}</template>
    <template #when="{ row }">{{ moment(row.created_at) }}</template>
  </RecordTable>
</template>
