<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { PersonRow } from '@/service/types'
import { counted, day } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import EditManyDialog from '@/records/EditManyDialog.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch, all } = useList<PersonRow>('people')
const router = useRouter()
const isAdding = ref(false)
const isChanging = ref(false)
const picked = ref<string[]>([])
const CHOICES = [
  { label: 'All', filter: '' },
  { label: 'Outside', filter: 'inside eq false' },
  { label: 'Left, with access', filter: 'standing eq "left" and grants gt 0' },
  { label: 'Not recognised', filter: 'recognised eq false' },
]
const COLUMNS = [
  { name: 'name', label: 'Person', sort: 'name' },
  { name: 'job', label: 'What they do', quiet: true },
  { name: 'inside', label: 'Stands' },
  { name: 'grants', label: 'Own grants', sort: 'grants' },
  { name: 'sessions', label: 'Sessions', sort: 'sessions' },
  { name: 'flags', label: 'Flags', sort: 'open_flags' },
]

function stands(row: PersonRow): string {
  const where = row.inside ? 'inside' : 'outside'
  if (!row.recognised) return `${where}, nobody knows who this is`
  if (row.standing === 'left') return `left ${day(row.leaves_on)}`
  return row.standing === 'leaving' ? `${where}, leaves ${day(row.leaves_on)}` : where
}
</script>

<template>
  <PageHead title="People" about="Everybody in the register whom you may see, and how much they can reach.">
    <button v-if="picked.length" class="button" @click="isChanging = true">Change {{ counted(picked.length, 'person', 'people') }}…</button>
    <button v-if="me?.administrator" class="button-main" @click="isAdding = true">Add a person</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="people" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No people match. Add people by hand, import them from a file, or read them from a connected system." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :picks="Boolean(me?.administrator)" :rows="rows" :columns="COLUMNS" caption="People" :has-more="hasMore" :has-less="hasLess" :total="count" @more="more" @less="less" @all="all(500).then((ids) => (picked = ids))">
    <template #name="{ row }">
      <RouterLink :to="`/people/${row.id}`" class="link">{{ row.name }}</RouterLink>
      <p class="text-sm font-normal text-soft">{{ row.address }}</p>
    </template>
    <template #job="{ row }">{{ row.job }}</template>
    <template #inside="{ row }">{{ stands(row) }}</template>
    <template #grants="{ row }">{{ row.grants }}</template>
    <template #sessions="{ row }">{{ row.sessions }}</template>
    <template #flags="{ row }"><span :class="row.open_flags ? 'font-semibold text-rust' : 'text-soft'">{{ row.open_flags }}</span></template>
  </RecordTable>
  <RecordDialog :open="isAdding" kind="people" @close="isAdding = false" @done="router.push(`/people/${$event.id}`)" />
  <EditManyDialog :open="isChanging" kind="people" :ids="picked" @close="isChanging = false" @done="((picked = []), refetch())" />
</template>
