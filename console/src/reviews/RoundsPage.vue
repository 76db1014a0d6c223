<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
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
  { name: 'name', label: gettext('Round'), sort: 'name' },
  { name: 'progress', label: gettext('Decided') },
  { name: 'outcome', label: gettext('Kept, trimmed, revoked'), quiet: true },
  { name: 'due', label: gettext('Due'), sort: 'due_at' },
  { name: 'state', label: gettext('State'), sort: 'closed_at' },
]
</script>

<template>
  <PageHead docs="how-to/review" :title="gettext('Reviews')" :words="['review','item','decision','schedule']" :about="gettext('Rounds in which access is kept, trimmed or revoked, line by line.')">
    <button v-if="me?.administrator" class="button-main" @click="isOpening = true">{{ gettext('Open a round') }}</button>
  </PageHead>
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No review has items for you to decide.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Rounds')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }"><RouterLink :to="`/rounds/${row.id}`" class="link">{{ row.name }}</RouterLink></template>
    <template #progress="{ row }">
      {{ gettext('%{decided} of %{items}', { decided: row.decided, items: row.items }) }}
      <progress :value="row.decided" :max="row.items" class="ml-2 h-2 w-28 accent-moss" :aria-label="gettext('Progress of %{row}', { row: row.name })" />
    </template>
    <template #outcome="{ row }">{{ row.kept }}, {{ row.trimmed }}, {{ row.revoked }}</template>
    <template #due="{ row }">{{ day(row.due_at) }}</template>
    <template #state="{ row }">{{ row.closed_at ? `${row.state === 'closed' ? 'closed' : gettext('carrying out, closed')} ${day(row.closed_at)}` : 'open' }}</template>
  </RecordTable>
  <ScheduleBox v-if="me?.administrator" />
  <OpenRoundDialog :open="isOpening" @close="isOpening = false" />
</template>
