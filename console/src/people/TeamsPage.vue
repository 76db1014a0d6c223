<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { TeamRow } from '@/service/types'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const router = useRouter()
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<TeamRow>('teams')
const isAdding = ref(false)
const CHOICES = [{ label: gettext('All'), filter: '' }, { label: gettext('Partners'), filter: 'partner eq true' }, { label: gettext('Archived'), filter: 'archived eq true' }]
const COLUMNS = [
  { name: 'name', label: gettext('Team'), sort: 'name' },
  { name: 'speaker', label: gettext('Answers offers') },
  { name: 'members', label: gettext('Members'), sort: 'members' },
  { name: 'grants', label: gettext('Grants'), sort: 'grants' },
]
</script>

<template>
  <PageHead :title="gettext('Teams')" :about="gettext('People, teams and partner organisations that hold access together.')">
    <button v-if="me?.administrator" class="button-main" @click="isAdding = true">{{ gettext('Add a team') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="teams" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No teams match. A team is for people who hold the same access: add one, then add its members.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Teams')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }"><RouterLink :to="`/teams/${row.id}`" class="link">{{ row.name }}</RouterLink><p class="text-sm font-normal text-soft">{{ row.partner ? gettext('partner organisation') : row.purpose }}</p></template>
    <template #speaker="{ row }">{{ row.speaker?.name ?? gettext('nobody') }}</template>
    <template #members="{ row }">{{ row.members }}</template>
    <template #grants="{ row }">{{ row.grants }}</template>
  </RecordTable>
  <RecordDialog :open="isAdding" kind="teams" @close="isAdding = false" @done="router.push(`/teams/${$event.id}`)" />
</template>
