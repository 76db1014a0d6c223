<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { send } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { SystemRow } from '@/service/types'
import { moment, plain } from '@/frame/words'
import BringFile from '@/records/BringFile.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import SystemDialog from './SystemDialog.vue'
import ConnectDialog from './ConnectDialog.vue'

const { rows, status, error, sort, hasMore, hasLess, more, less, refetch } = useList<SystemRow>('systems')
const failed = ref<unknown>(null)
const asked = ref<string[]>([])
const keeping = ref('')
const setting = ref<SystemRow | null>(null)
const COLUMNS = [
  { name: 'name', label: gettext('System'), sort: 'name' },
  { name: 'kind', label: gettext('Changed') },
  { name: 'accounts', label: gettext('Accounts') },
  { name: 'read', label: gettext('Last read'), sort: 'read_at' },
  { name: 'drift', label: gettext('Drift') },
  { name: 'answer', label: gettext('What that showed'), quiet: true },
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
  <PageHead docs="how-to/connect-a-system" :title="gettext('Systems and files')" :words="['system','adapter','read','coverage']" :about="gettext('Where accounts really live, and records brought from files.')">
    <button v-if="me?.administrator" class="button-main" @click="keeping = 'new'">{{ gettext('Connect or name a system') }}</button>
  </PageHead>
  <ProblemNote :error="failed" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No system is known yet. A system is where accounts live: connect one, or name one that people look after by hand.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" :rows="rows" :columns="COLUMNS" :caption="gettext('Systems')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }"><button class="link text-left" @click="keeping = row.id">{{ row.name }}</button><span v-if="row.paused_at" class="block text-sm text-brass">{{ gettext('paused') }}</span></template>
    <template #kind="{ row }">{{ row.kind === 'by_hand' ? gettext('by hand') : gettext('by us (%{kind})', { kind: plain(row.kind) }) }}</template>
    <template #accounts="{ row }">{{ row.accounts }}</template>
    <template #read="{ row }"><span v-if="row.reading_since" class="font-semibold text-brass">{{ gettext('being read: %{reading_seen} seen', { reading_seen: row.reading_seen }) }}</span><template v-else>{{ moment(row.read_at) }}<span v-if="row.next_read_at && row.kind !== 'by_hand'" class="block text-sm text-soft">{{ gettext('again %{next_read_at}', { next_read_at: moment(row.next_read_at) }) }}</span></template></template>
    <template #drift="{ row }"><RouterLink v-if="row.unrecorded + row.missing + row.changed" :to="`/drift?filter=${encodeURIComponent(`drift pr and system.id eq &quot;${row.id}&quot;`)}`" class="link">{{ row.unrecorded + row.missing + row.changed }}</RouterLink><template v-if="row.doubts">, {{ ngettext('%{n} doubt', '%{n} doubts', row.doubts) }}</template></template>
    <template #answer="{ row }"><strong v-if="row.down_since" class="text-rust">{{ `${gettext('Down since %{down_since}.', { down_since: moment(row.down_since) })} ` }}</strong>{{ row.answer }}<ul v-if="row.coverage.not_looked_at?.length" class="mt-1 list-disc pl-5 text-sm text-soft"><li v-for="gap in row.coverage.not_looked_at" :key="gap">{{ gettext('Not covered: %{gap}', { gap }) }}</li></ul></template>
    <template #act="{ row }"><span class="flex gap-1"><button v-if="row.kind !== 'by_hand'" class="button" @click="read(row)">{{ asked.includes(row.id) ? gettext('Asked; read again') : gettext('Read now') }}<span class="sr-only"> {{ row.name }}</span></button> <button v-if="row.kind !== 'by_hand'" class="button" @click="setting = row">{{ gettext('Settings…') }}<span class="sr-only">{{ ` ${gettext('%{row} is read', { row: row.name })}` }}</span></button></span></template>
  </RecordTable>
  <SystemDialog :system="setting" @close="setting = null" @done="refetch()" />
  <ConnectDialog :open="keeping !== ''" :id="keeping === 'new' ? undefined : keeping || undefined" @close="keeping = ''" @done="refetch()" @gone="refetch()" />
  <BringFile class="mt-8" />
</template>
