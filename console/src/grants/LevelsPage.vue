<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { LevelPreview, LevelRow, Right } from '@/service/types'
import BreachList from '@/latches/BreachList.vue'
import ListTools from '@/lists/ListTools.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RecordTable from '@/lists/RecordTable.vue'
import StateNote from '@/frame/StateNote.vue'
import { permissionsOf } from './queries'

const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<LevelRow>('levels', 'single eq false')
const picked = ref<string[]>([])
const COLUMNS = [
  { name: 'name', label: gettext('Level'), sort: 'name' },
  { name: 'system', label: gettext('System') },
  { name: 'reach', label: gettext('Reach'), sort: 'reach' },
  { name: 'what', label: gettext('What it lets one do') },
  { name: 'grants', label: gettext('Given by'), sort: 'grants', quiet: true },
  { name: 'do', label: '' },
]
const isComparing = ref(false)
const comparison = useQuery({
  key: () => ['levels', 'compare', ...picked.value],
  query: () => get('/levels/compare', { first: picked.value[0], second: picked.value[1] }),
  enabled: () => isComparing.value && picked.value.length === 2,
})

const editing = ref<LevelRow | null>(null)
const form = reactive({ name: '', sentence: '', keys: [] as string[], new_key: '', new_sentence: '', new_reach: 'observe' })
const preview = ref<LevelPreview | null>(null)
const failed = ref<unknown>(null)
const permissions = useQuery(permissionsOf(() => editing.value?.system.id))
const draft = computed(() => ({
  name: form.name,
  sentence: form.sentence,
  keys: form.keys,
  new: form.new_key ? [{ key: form.new_key, sentence: form.new_sentence, reach: form.new_reach }] : [],
}))

function edit(row: LevelRow): void {
  editing.value = row
  preview.value = failed.value = null
  Object.assign(form, { name: row.name, sentence: row.sentence, keys: row.permissions.map((p) => p.key), new_key: '', new_sentence: '', new_reach: 'observe' })
}

const isMaking = ref(false)
const systems = useQuery({ key: ['systems', 'for levels'], query: () => get('/systems', { limit: 200 }), enabled: () => isMaking.value })
const fresh = reactive({ system: '', key: '' })

function make(): void {
  isMaking.value = true
  failed.value = null
  Object.assign(fresh, { system: '', key: '' })
  Object.assign(form, { name: '', sentence: '', keys: [], new_key: '', new_sentence: '', new_reach: 'observe' })
}
const known = useQuery(permissionsOf(() => fresh.system))
const create = () => attempt(async () => {
  await send('POST', '/levels', { ...draft.value, ...fresh })
  isMaking.value = false
  refetch()
})

async function attempt(call: () => Promise<void>): Promise<void> {
  failed.value = null
  try {
    await call()
  } catch (problem) {
    failed.value = problem
  }
}
const putAway = (how: 'remove' | 'archive') => attempt(async () => {
  await send(how === 'remove' ? 'DELETE' : 'PUT', `/levels/${editing.value?.id}${how === 'remove' ? '' : '/archived'}`)
  editing.value = null
  refetch()
})
const takeOut = (row: LevelRow) => attempt(async () => {
  await send('DELETE', `/levels/${row.id}/archived`)
  refetch()
})
const look = () => attempt(async () => { preview.value = await send('POST', `/levels/${editing.value?.id}/preview`, draft.value) })
const change = () => attempt(async () => {
  const row = editing.value
  await proving(() => send('PUT', `/levels/${row?.id}`, { ...draft.value, fingerprint: preview.value?.fingerprint ?? '' }, { 'If-Match': `"${row?.version}"` }))
  editing.value = null
  refetch()
})
</script>

<template>
  <PageHead docs="how-to/give-access" :title="gettext('Levels')" :words="['level','permission','reach','observe','operate','spend','steward']" :about="gettext('Named sets of permissions, each in the words of somebody who does not know the system.')">
    <button v-if="me?.administrator" class="button" @click="make">{{ gettext('Create a level') }}</button>
    <button class="button" :disabled="picked.length !== 2" @click="isComparing = true">{{ picked.length === 2 ? gettext('Compare the two') : gettext('Pick two to compare') }}</button>
  </PageHead>
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="levels" :choices="[{ label: gettext('All'), filter: '' }, { label: gettext('Archived'), filter: 'archived eq true' }]" />
  <ProblemNote v-if="!editing && !isMaking" :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No levels match. A level says in plain words what somebody may do in a system. Create levels for systems that are changed by hand.')" @retry="refetch" />
  <RecordTable v-if="status === 'success' && rows.length" v-model:sort="sort" v-model:picked="picked" picks :rows="rows" :columns="COLUMNS" :caption="gettext('Levels')" :has-more="hasMore" :has-less="hasLess" @more="more" @less="less">
    <template #name="{ row }">{{ row.name }}</template>
    <template #system="{ row }">{{ row.system.name }}</template>
    <template #reach="{ row }"><ReachMark :reach="row.reach" /></template>
    <template #what="{ row }">{{ row.sentence }}<span class="block text-sm text-soft">{{ row.permissions.map((p) => p.sentence).join('; ') }}</span></template>
    <template #grants="{ row }">{{ ngettext('%{n} grant', '%{n} grants', row.grants) }}</template>
    <template #do="{ row }"><button v-if="me?.administrator && row.archived" class="button" @click="takeOut(row)">{{ gettext('Remove') }}<span class="sr-only"> {{ row.name }}</span></button><button v-else-if="me?.administrator" class="button" @click="edit(row)">{{ gettext('Change') }}<span class="sr-only"> {{ row.name }}</span></button></template>
  </RecordTable>
  <ModalBox :open="isMaking" :title="gettext('Create a level')" @close="isMaking = false">
    <form class="mt-3 space-y-4" @submit.prevent="create">
      <div class="grid gap-4 sm:grid-cols-2">
        <label class="block font-semibold">{{ gettext('System') }} <select v-model="fresh.system" required class="field mt-1 font-normal"><option value="" disabled>{{ gettext('Choose one') }}</option><option v-for="one in systems.data.value?.rows ?? []" :key="one.id" :value="one.id">{{ one.name }}</option></select></label>
        <label class="block font-semibold">{{ gettext('Key') }} <span class="font-normal text-soft">{{ gettext('(for files)') }}</span><input v-model="fresh.key" required class="field mt-1 font-mono text-sm font-normal" /></label>
      </div>
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="form.name" required class="field mt-1 font-normal" /></label>
      <label class="block font-semibold">{{ gettext('In one sentence') }} <input v-model="form.sentence" required class="field mt-1 font-normal" /></label>
      <fieldset>
        <legend class="font-semibold">{{ gettext('What it permits') }}</legend>
        <label v-for="right in known.data.value?.permissions ?? []" :key="right.key" class="mt-1 flex items-baseline gap-2"><input v-model="form.keys" type="checkbox" :value="right.key" class="accent-moss" /><span class="flex-1">{{ right.sentence }}</span><ReachMark :reach="right.reach" /></label>
      </fieldset>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="isMaking = false">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Create') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="isComparing" :title="gettext('Side by side')" @close="isComparing = false">
    <ProblemNote :error="comparison.error.value" />
    <div v-if="comparison.data.value" class="mt-4 grid gap-4 sm:grid-cols-3">
      <section v-for="[title, rights] in ([[`Only ${comparison.data.value.first.name}`, comparison.data.value.first_only], ['Both', comparison.data.value.both], [`Only ${comparison.data.value.second.name}`, comparison.data.value.second_only]] as [string, Right[]][])" :key="title">
        <h3 class="font-sans text-base font-semibold">{{ title }}</h3>
        <ul class="mt-1 space-y-2">
          <li v-for="right in rights" :key="right.key">{{ right.sentence }} <ReachMark :reach="right.reach" class="block text-sm" /></li>
          <li v-if="!rights.length" class="text-soft">{{ gettext('nothing') }}</li>
        </ul>
      </section>
    </div>
  </ModalBox>
  <ModalBox :open="editing !== null" :title="gettext('Change “%{editing}”', { editing: editing?.name })" @close="editing = null">
    <form class="mt-3 space-y-4" @submit.prevent="preview ? change() : look()">
      <label class="block font-semibold">{{ gettext('Name') }} <input v-model="form.name" required class="field mt-1 font-normal" @input="preview = null" /></label>
      <label class="block font-semibold">{{ gettext('In one sentence') }} <input v-model="form.sentence" required class="field mt-1 font-normal" @input="preview = null" /></label>
      <fieldset>
        <legend class="font-semibold">{{ gettext('What it permits') }}</legend>
        <label v-for="right in permissions.data.value?.permissions ?? []" :key="right.key" class="mt-1 flex items-baseline gap-2">
          <input v-model="form.keys" type="checkbox" :value="right.key" class="accent-moss" @change="preview = null" /><span class="flex-1">{{ right.sentence }}</span><ReachMark :reach="right.reach" />
        </label>
      </fieldset>
      <details>
        <summary class="cursor-pointer text-soft hover:text-ink">{{ gettext('A permission that the system did not have yet') }}</summary>
        <div class="mt-2 grid gap-2 sm:grid-cols-3">
          <input v-model="form.new_key" class="field font-mono text-sm" :placeholder="gettext('mail.export')" :aria-label="gettext('Its key')" @input="preview = null" />
          <input v-model="form.new_sentence" class="field" :placeholder="gettext('Take all messages away')" :aria-label="gettext('What it lets one do')" @input="preview = null" />
          <select v-model="form.new_reach" class="field" :aria-label="gettext('Reach')" @change="preview = null"><option>{{ gettext('observe') }}</option><option>{{ gettext('operate') }}</option><option>{{ gettext('spend') }}</option><option>{{ gettext('steward') }}</option></select>
        </div>
      </details>
      <div v-if="preview" class="space-y-3 rounded-md bg-sunk p-3" role="status">
        <p class="font-semibold">{{ ngettext('%{n} holder gains', '%{n} holders gain', preview.grows) }}, {{ ngettext('%{n} holder loses', '%{n} holders lose', preview.shrinks) }}.</p>
        <ul class="max-h-56 space-y-1 overflow-y-auto" tabindex="0" :aria-label="gettext('Whose rights change')">
          <li v-for="effect in preview.effects" :key="effect.holder.id + effect.account.id"><strong>{{ effect.holder.name }}</strong> {{ gettext('on %{account}', { account: effect.account.name }) }}<template v-if="effect.gains.length">{{ ` ${gettext('gains “%{gains}”', { gains: effect.gains.map((r) => r.sentence).join('”, “') })}` }}</template><template v-if="effect.loses.length">{{ ` ${gettext('loses “%{loses}”', { loses: effect.loses.map((r) => r.sentence).join('”, “') })}` }}</template></li>
        </ul>
        <BreachList :breaches="preview.latches" />
      </div>
      <ProblemNote :error="failed" />
      <div class="flex flex-wrap justify-end gap-2">
        <template v-if="editing?.grants === 0">
          <button type="button" class="button" @click="putAway('archive')">{{ gettext('Archive') }}</button>
          <button type="button" class="button-end mr-auto" @click="putAway('remove')">{{ gettext('Remove') }}</button>
        </template>
        <button type="button" class="button" @click="editing = null">{{ gettext('Cancel') }}</button>
        <button class="button-main">{{ preview ? gettext('Change it now, for everybody who holds it') : gettext('See whose rights change') }}</button>
      </div>
    </form>
  </ModalBox>
</template>
