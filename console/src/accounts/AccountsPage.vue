<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { AccountRow } from '@/service/types'
import { SENSITIVITY_WORDS } from '@/frame/words'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import EditManyDialog from '@/records/EditManyDialog.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const list = useList<AccountRow>('accounts')
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch, all } = list
const router = useRouter()
const isAdding = ref(false)
const isChanging = ref(false)
const picked = ref<string[]>([])
const CHOICES = [
  { label: gettext('All'), filter: '' },
  { label: gettext('Sensitive'), filter: 'sensitivity ge 3' },
  { label: gettext('With flags'), filter: 'open_flags gt 0' },
  { label: gettext('Without owner'), filter: 'not (owner.id pr)' },
  { label: gettext('Archived'), filter: 'archived eq true' },
]
const COLUMNS = [
  { name: 'name', label: gettext('Account'), sort: 'name' },
  { name: 'sensitivity', label: gettext('Sensitivity'), sort: 'sensitivity' },
  { name: 'owner', label: gettext('Owner'), sort: 'owner.name' },
  { name: 'system', label: gettext('Lives in'), quiet: true },
  { name: 'holders', label: gettext('Shared by'), sort: 'holders' },
  { name: 'sessions', label: gettext('Sessions'), sort: 'sessions' },
  { name: 'flags', label: gettext('Flags'), sort: 'open_flags' },
]
</script>

<template>
  <PageHead :title="gettext('Accounts')" :words="['account','owner','steward','delegate','sensitivity','system']" :about="gettext('The shared accounts that you answer for or can reach.')">
    <button v-if="picked.length" class="button" @click="isChanging = true">{{ gettext('Change %{count}…', { count: ngettext('%{n} account', '%{n} accounts', picked.length) }) }}</button>
    <button v-if="me?.administrator" class="button-main" @click="isAdding = true">{{ gettext('Add an account') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="accounts" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No accounts match. An account is something that several people share: a mailbox, a database, a spreadsheet.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :picks="Boolean(me?.administrator)" :rows="rows" :columns="COLUMNS" :caption="gettext('Accounts')" :has-more="hasMore" :has-less="hasLess" :total="count" @more="more" @less="less" @all="all(500).then((ids) => (picked = ids))">
    <template #name="{ row }">
      <RouterLink :to="`/accounts/${row.id}`" class="link">{{ row.name }}</RouterLink>
      <p class="text-sm font-normal text-soft">{{ row.purpose }}</p>
    </template>
    <template #sensitivity="{ row }">{{ SENSITIVITY_WORDS[row.sensitivity] }}</template>
    <template #owner="{ row }">{{ row.owner?.name ?? gettext('nobody') }}</template>
    <template #system="{ row }">{{ row.system.name }}</template>
    <template #holders="{ row }">{{ row.holders }}</template>
    <template #sessions="{ row }">{{ row.sessions }}</template>
    <template #flags="{ row }"><span :class="row.open_flags ? 'font-semibold text-rust' : 'text-soft'">{{ row.open_flags }}</span></template>
  </RecordTable>
  <RecordDialog :open="isAdding" kind="accounts" @close="isAdding = false" @done="router.push(`/accounts/${$event.id}`)" />
  <EditManyDialog :open="isChanging" kind="accounts" :ids="picked" @close="isChanging = false" @done="((picked = []), refetch())" />
</template>
