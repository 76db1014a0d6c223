<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { PersonRow } from '@/service/types'
import { day } from '@/frame/words'
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
  { label: gettext('All'), filter: '' },
  { label: gettext('Outside'), filter: 'inside eq false' },
  { label: gettext('Left, with access'), filter: 'standing eq "left" and grants gt 0' },
  { label: gettext('Not recognised'), filter: 'recognised eq false' },
]
const COLUMNS = [
  { name: 'name', label: gettext('Person'), sort: 'name' },
  { name: 'job', label: gettext('What they do'), quiet: true },
  { name: 'inside', label: gettext('Stands') },
  { name: 'grants', label: gettext('Own grants'), sort: 'grants' },
  { name: 'sessions', label: gettext('Sessions'), sort: 'sessions' },
  { name: 'flags', label: gettext('Flags'), sort: 'open_flags' },
]

function stands(row: PersonRow): string {
  const where = row.inside ? gettext('inside') : gettext('outside')
  if (!row.recognised) return gettext('%{where}, nobody knows who this is', { where })
  if (row.standing === 'left') return gettext('left %{leaves_on}', { leaves_on: day(row.leaves_on) })
  return row.standing === 'leaving' ? gettext('%{where}, leaves %{leaves_on}', { where, leaves_on: day(row.leaves_on) }) : where
}
</script>

<template>
  <PageHead :title="gettext('People')" :about="gettext('Everybody in the register whom you may see, and how much they can reach.')">
    <button v-if="picked.length" class="button" @click="isChanging = true">{{ gettext('Change %{count}…', { count: ngettext('%{n} person', '%{n} people', picked.length) }) }}</button>
    <button v-if="me?.administrator" class="button-main" @click="isAdding = true">{{ gettext('Add a person') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="people" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No people match. Add people by hand, import them from a file, or read them from a connected system.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :picks="Boolean(me?.administrator)" :rows="rows" :columns="COLUMNS" :caption="gettext('People')" :has-more="hasMore" :has-less="hasLess" :total="count" @more="more" @less="less" @all="all(500).then((ids) => (picked = ids))">
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
