<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
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
  { label: gettext('All'), filter: '' },
  { label: gettext('In progress'), filter: 'not (settled_at pr)' },
  { label: gettext('By hand'), filter: 'state eq "by_hand"' },
  { label: gettext('Confirmed'), filter: 'state eq "confirmed"' },
  { label: gettext('Not confirmed'), filter: 'state eq "stated" or state eq "unproved" or state eq "contradicted"' },
]
const COLUMNS = [
  { name: 'title', label: gettext('What') },
  { name: 'state', label: gettext('State') },
  { name: 'steps', label: gettext('Steps') },
  { name: 'asked', label: gettext('Asked by'), quiet: true },
  { name: 'when', label: gettext('When'), sort: 'created_at', quiet: true },
]
</script>

<template>
  <PageHead docs="explanation/how-access-ends" :title="gettext('Revocations')" :words="['revocation','proof','confirmed','stated','unproved','contradicted']" :about="gettext('Access that was ended, and how that is known: confirmed by the system, stated by a person, or not proved.')" />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="revocations" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No revocations match.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Revocations')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #title="{ row }">
      <RouterLink :to="`/revocations/${row.id}`" class="link">{{ row.title }}</RouterLink>
      <p class="text-sm font-normal text-soft">{{ row.reason }}</p>
    </template>
    <template #state="{ row }"><RevocationState :state="row.state" /><p v-if="row.settled_at" class="mt-1 text-sm text-soft">{{ endsWords(row) }}</p></template>
    <template #steps="{ row }">{{ gettext('%{steps_done} of %{steps}', { steps_done: row.steps_done, steps: row.steps }) }}</template>
    <template #asked="{ row }">{{ row.asked_by?.name ?? gettext('Open Latch') }}</template>
    <template #when="{ row }">{{ moment(row.created_at) }}</template>
  </RecordTable>
</template>
