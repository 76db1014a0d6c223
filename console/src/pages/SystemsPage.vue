<script setup lang="ts">
import { ref } from 'vue'

import { send } from '@/data/api'
import { useList } from '@/data/list'
import type { SystemRow } from '@/data/types'
import { moment, plain } from '@/lib/words'
import BringFile from '@/parts/BringFile.vue'
import PageHead from '@/parts/PageHead.vue'
import ProblemNote from '@/parts/ProblemNote.vue'
import RecordTable from '@/parts/RecordTable.vue'
import StateNote from '@/parts/StateNote.vue'

const { rows, status, error, sort, hasMore, hasLess, more, less, refetch } = useList<SystemRow>('systems')
const failed = ref<unknown>(null)
const asked = ref<string[]>([])
const COLUMNS = [
  { name: 'name', label: 'System', sort: 'name' },
  { name: 'kind', label: 'Changed' },
  { name: 'accounts', label: 'Accounts' },
  { name: 'read', label: 'Last read', sort: 'read_at' },
  { name: 'answer', label: 'What it showed', quiet: true },
  { name: 'act', label: '' },
]

async function read(system: SystemRow): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/systems/${system.id}/read`)
    asked.value = [...asked.value, system.id]
  } catch (problem) {
    failed.value = problem
  }
}
</script>

<template>
  <PageHead title="Systems and files" about="Where accounts really live, and records brought from files." />
  <ProblemNote :error="failed" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No system is known yet. Bring a file of accounts, or connect one." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" caption="Systems" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }">{{ row.name }}</template>
    <template #kind="{ row }">{{ row.kind === 'by_hand' ? 'by hand' : `by us (${plain(row.kind)})` }}</template>
    <template #accounts="{ row }">{{ row.accounts }}</template>
    <template #read="{ row }">{{ moment(row.read_at) }}</template>
    <template #answer="{ row }"><strong v-if="row.down_since" class="text-rust">Down since {{ moment(row.down_since) }}. </strong>{{ row.answer }}</template>
    <template #act="{ row }"><button v-if="row.kind !== 'by_hand'" class="button" @click="read(row)">{{ asked.includes(row.id) ? 'Asked; read again' : 'Read now' }}<span class="sr-only"> {{ row.name }}</span></button></template>
  </RecordTable>
  <BringFile class="mt-8" />
</template>
