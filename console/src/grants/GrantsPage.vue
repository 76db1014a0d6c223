<script setup lang="ts">
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { GrantRow } from '@/service/types'
import { ago, plain, untilWords } from '@/frame/words'
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
  { label: gettext('Live'), filter: LIVE },
  { label: gettext('Can spend or steward'), filter: `${LIVE} and reach ge "spend"` },
  { label: gettext('Never used'), filter: `${LIVE} and not (last_used_at pr)` },
  { label: gettext('Outside'), filter: `${LIVE} and holder.inside eq false` },
  { label: gettext('Unrecorded'), filter: `${LIVE} and recorded eq false` },
  { label: gettext('Ended'), filter: 'state eq "ended"' },
]
const COLUMNS = [
  { name: 'holder', label: gettext('Holder'), sort: 'holder.name' },
  { name: 'account', label: gettext('Account'), sort: 'account.name' },
  { name: 'level', label: gettext('Level') },
  { name: 'reach', label: gettext('Reach'), sort: 'reach' },
  { name: 'until', label: gettext('Until'), sort: 'until' },
  { name: 'used', label: gettext('Used'), sort: 'last_used_at' },
  { name: 'state', label: gettext('State'), quiet: true },
]
</script>

<template>
  <PageHead docs="how-to/end-access" :title="gettext('Grants')" :words="['grant','holder','level','reach','term','drift']" :about="gettext('Who may act in which account, how far, until when.')">
    <button v-if="me?.administrator || me?.owner" class="button" @click="isRecording = true">{{ gettext('Record existing access') }}</button>
    <button v-if="mayChange" class="button" :disabled="!picked.length" @click="isChanging = true">{{ gettext('Change…') }}</button>
    <button v-if="mayChange && filter && count && count <= 1000" class="button" @click="isChangingAll = true">{{ gettext('Change all %{count}…', { count }) }}</button>
    <button v-if="mayChange" class="button-end" :disabled="!picked.length" @click="isEnding = true">{{ picked.length ? gettext('End %{count}', { count: ngettext('%{n} picked grant', '%{n} picked grants', picked.length) }) : gettext('Pick grants to end') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="grants" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No grants match. Offer access, or record access that exists already.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" :rows="rows" :columns="COLUMNS" :caption="gettext('Grants')" :picks="mayChange" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #holder="{ row }"><HolderName :holder="row.holder" /></template>
    <template #account="{ row }"><RouterLink :to="`/accounts/${row.account.id}`" class="link">{{ row.account.name }}</RouterLink></template>
    <template #level="{ row }">{{ row.level }}<span v-if="row.part" class="block text-sm text-soft">{{ gettext('only %{part}', { part: row.part }) }}</span></template>
    <template #reach="{ row }"><ReachMark v-if="row.reach" :reach="row.reach" /></template>
    <template #until="{ row }">{{ untilWords(row) }}</template>
    <template #used="{ row }">{{ ago(row.last_used_at) }}</template>
    <template #state="{ row }">{{ row.ended_as ? plain(row.ended_as) : plain(row.state) }}<template v-if="!row.recorded">{{ gettext(', unrecorded') }}</template><template v-if="row.missing_since">{{ gettext(', missing in the system') }}</template><template v-if="row.emergency">{{ gettext(', emergency') }}</template><span v-if="row.owed" class="block text-sm">{{ gettext('%{owed} in %{system}', { owed: row.owed === 'give' ? gettext('still to be given') : gettext('still to be taken'), system: row.system.name }) }}<template v-if="row.owed_answer">: {{ row.owed_answer }}</template></span></template>
  </RecordTable>
  <ChangeDialog :open="isChanging" :grants="rows.filter((row) => picked.includes(row.id))" @close="isChanging = false" @done="refetch()" />
  <ChangeDialog :open="isChangingAll" :filter="filter" :title="gettext('Change all %{count} that match', { count })" @close="isChangingAll = false" @done="refetch()" />
  <RevokeDialog :open="isEnding" :grants="picked" @close="isEnding = false" @started="isEnding = false" />
  <RecordAccessDialog :open="isRecording" @close="isRecording = false" @done="refetch()" />
</template>
