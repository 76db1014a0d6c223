<script setup lang="ts">
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { GrantRow } from '@/service/types'
import { ago, counted, plain, untilWords } from '@/frame/words'
import ChangeDialog from './ChangeDialog.vue'
import HolderName from '@/people/HolderName.vue'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RecordTable from '@/lists/RecordTable.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import StateNote from '@/frame/StateNote.vue'
import RecordAccessDialog from '@/records/RecordAccessDialog.vue'

const LIVE = 'state ne "ended"'
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<GrantRow>('grants', LIVE)
const picked = ref<string[]>([])
const isRecording = ref(false)
const isEnding = ref(false)
const isChanging = ref(false)
const isChangingAll = ref(false)
const mayChange = computed(() => Boolean(me.value?.administrator || me.value?.owner || me.value?.inside))
const CHOICES = [
  { label: 'Live', filter: LIVE },
  { label: 'Can spend or steward', filter: `${LIVE} and reach ge "spend"` },
  { label: 'Never used', filter: `${LIVE} and not (last_used_at pr)` },
  { label: 'Outside', filter: `${LIVE} and holder.inside eq false` },
  { label: 'Unrecorded', filter: `${LIVE} and recorded eq false` },
  { label: 'Ended', filter: 'state eq "ended"' },
]
const COLUMNS = [
  { name: 'holder', label: 'Holder', sort: 'holder.name' },
  { name: 'account', label: 'Account', sort: 'account.name' },
  { name: 'level', label: 'Level' },
  { name: 'reach', label: 'Reach', sort: 'reach' },
  { name: 'until', label: 'Until', sort: 'until' },
  { name: 'used', label: 'Used', sort: 'last_used_at' },
  { name: 'state', label: 'State', quiet: true },
]
</script>

<template>
  <PageHead title="Grants" about="Who may act in which account, how far, until when.">
    <button v-if="me?.administrator || me?.owner" class="button" @click="isRecording = true">Record existing access</button>
    <button v-if="mayChange" class="button" :disabled="!picked.length" @click="isChanging = true">Change…</button>
    <button v-if="mayChange && filter && count && count <= 1000" class="button" @click="isChangingAll = true">Change all {{ count }}…</button>
    <button v-if="mayChange" class="button-end" :disabled="!picked.length" @click="isEnding = true">{{ picked.length ? `End ${counted(picked.length, 'picked grant')}` : 'Pick grants to end' }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="grants" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" empty-text="No grants match. Offer access, or record access that exists already." @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :rows="rows" :columns="COLUMNS" caption="Grants" :picks="mayChange" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #holder="{ row }"><HolderName :holder="row.holder" /></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #level="{ row }">{{ row.level }}<span v-if="row.part" class="block text-sm text-soft">only {{ row.part }}</span></template>
    <template #reach="{ row }"><ReachMark v-if="row.reach" :reach="row.reach" /></template>
    <template #until="{ row }">{{ untilWords(row) }}</template>
    <template #used="{ row }">{{ ago(row.last_used_at) }}</template>
    <template #state="{ row }">{{ row.ended_as ? plain(row.ended_as) : plain(row.state) }}<template v-if="!row.recorded">, unrecorded</template><template v-if="row.missing_since">, missing in the system</template><template v-if="row.emergency">, emergency</template><span v-if="row.owed" class="block text-sm">{{ row.owed === 'give' ? 'still to be given' : 'still to be taken' }} in {{ row.system.name }}<template v-if="row.owed_answer">: {{ row.owed_answer }}</template></span></template>
  </RecordTable>
  <ChangeDialog :open="isChanging" :grants="rows.filter((row) => picked.includes(row.id))" @close="isChanging = false" @done="refetch()" />
  <ChangeDialog :open="isChangingAll" :filter="filter" :title="`Change all ${count} that match`" @close="isChangingAll = false" @done="refetch()" />
  <RevokeDialog :open="isEnding" :grants="picked" @close="isEnding = false" @started="isEnding = false" />
  <RecordAccessDialog :open="isRecording" @close="isRecording = false" @done="refetch()" />
</template>
