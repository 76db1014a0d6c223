<script setup lang="ts">
import { gettext, ngettext, pgettext } from '@/frame/language'
import { useQueryCache } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { send } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { FlagRow } from '@/service/types'
import { day, plain } from '@/frame/words'
import RecordPicker from '@/records/RecordPicker.vue'
import AcceptDialog from './AcceptDialog.vue'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import SeverityMark from './SeverityMark.vue'
import StateNote from '@/frame/StateNote.vue'

const OPEN = 'state eq "open"'
const { rows, count, status, error, search, filter, hasMore, hasLess, more, less, refetch } = useList<FlagRow>('flags', OPEN)
const CHOICES = [
  { label: pgettext('state', 'Open'), filter: OPEN },
  { label: gettext('Left'), filter: `${OPEN} and rule eq "holder_left"` },
  { label: gettext('Unrecorded'), filter: `${OPEN} and rule eq "unrecorded"` },
  { label: gettext('Unused'), filter: `${OPEN} and (rule eq "unused" or rule eq "never_used")` },
  { label: pgettext('flag', 'Accepted'), filter: 'state eq "accepted"' },
  { label: gettext('Cleared'), filter: 'state eq "cleared"' },
]
const accepting = ref<FlagRow[]>([])
const ending = ref<FlagRow[]>([])
const trimming = ref<FlagRow[]>([])
const trims = computed(() => of(trimming.value, 'grant').map((id) => `id eq "${id}"`).join(' or '))
const picked = ref<string[]>([])
const chosen = computed(() => rows.value.filter((flag) => picked.value.includes(flag.id)))
const MAY_SEE_TO = 'standing ne "left" and address pr and inside eq true'
const failed = ref<unknown>(null)
const cache = useQueryCache()

async function assign(flags: FlagRow[], person: string): Promise<void> {
  failed.value = null
  try {
    await send('POST', '/flags/assign', { flags: flags.map((flag) => flag.id), person: person || null })
    picked.value = []
    await cache.invalidateQueries({ key: ['flags'] })
  } catch (problem) {
    failed.value = problem
  }
}

async function reopen(flag: FlagRow): Promise<void> {
  await send('POST', `/flags/${flag.id}/reopen`, {})
  await cache.invalidateQueries({ key: ['flags'] })
}

function answersFor(): boolean {
  return Boolean(me.value?.administrator || me.value?.owner)
}

function of(flags: FlagRow[], kind: string): string[] {
  return [...new Set(flags.filter((flag) => flag.subject.kind === kind).map((flag) => flag.subject.id))]
}

function canEnd(flag: FlagRow): boolean {
  return ['grant', 'session'].includes(flag.subject.kind) && flag.rule !== 'still_there'
}

const endLabel = computed(() => {
  const [grants, sessions] = [of(chosen.value.filter(canEnd), 'grant').length, of(chosen.value, 'session').length]
  return gettext('End %{value}', { value: [grants ? ngettext('%{n} grant', '%{n} grants', grants) : '', sessions ? ngettext('%{n} session', '%{n} sessions', sessions) : ''].filter(Boolean).join(' and ') })
})

function parts(flag: FlagRow): string {
  return Object.entries(flag.parts).filter(([, points]) => points).map(([name, points]) => `${plain(name)} ${points}`).join(', ')
}
</script>

<template>
  <PageHead docs="reference/rules" :title="gettext('Flags')" :words="['flag','rule','matter','action']" :about="gettext('What is stale or risky, worst first. A flag clears by itself when its facts change.')" />
  <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="flags" :choices="CHOICES" />
  <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('No flags match.')" @retry="refetch" />
  <ul v-if="status === 'success' && rows.length" class="card divide-y divide-line">
    <li v-for="flag in rows" :key="flag.id" class="grid gap-x-4 gap-y-2 px-5 py-3 md:grid-cols-[10rem_1fr_auto]">
      <div class="flex items-start gap-2">
        <input v-if="flag.state === 'open' && answersFor()" v-model="picked" type="checkbox" :value="flag.id" class="mt-1 size-6 accent-moss" :aria-label="gettext('Select: %{flag}', { flag: flag.sentence })" />
        <SeverityMark :severity="flag.severity" :score="flag.score" />
      </div>
      <div>
        <p class="font-medium">{{ flag.sentence }}</p>
        <p class="text-sm text-soft">
          {{ gettext('%{title}. %{remedy} Score: %{flag}. Raised %{raised_at}', { title: flag.title, remedy: flag.remedy, flag: parts(flag), raised_at: day(flag.raised_at) }) }}<template v-if="flag.worse_at">{{ gettext(', worse since %{worse_at}', { worse_at: day(flag.worse_at) }) }}</template>.
          <template v-if="flag.assigned_to">{{ `${gettext('Assigned to %{assigned_to}.', { assigned_to: flag.assigned_to.name })} ` }}</template>
          <RouterLink v-if="answersFor()" :to="`/matters/${flag.account?.id ?? '-'}~${flag.holder.id}`" class="link mr-2">{{ gettext('Reasons and comments') }}<span class="sr-only">: {{ flag.sentence }}</span></RouterLink>
          <RouterLink v-if="flag.account" :to="`/accounts/${flag.account.id}`" class="link">{{ gettext('Open %{account}', { account: flag.account.name }) }}</RouterLink>
          <RouterLink v-else :to="`/people/${flag.holder.id}`" class="link">{{ gettext('Open %{holder}', { holder: flag.holder.name }) }}</RouterLink>
        </p>
        <p v-if="flag.state === 'accepted'" class="text-sm">
          {{ gettext('Accepted by %{accepted_by} until %{accepted_until}: %{accepted_reason}', { accepted_by: flag.accepted_by?.name, accepted_until: day(flag.accepted_until), accepted_reason: flag.accepted_reason }) }}
          <button v-if="answersFor()" class="link" @click="reopen(flag)">{{ gettext('Open it again') }}<span class="sr-only">: {{ flag.sentence }}</span></button>
        </p>
      </div>
      <div v-if="flag.state === 'open' && answersFor()" class="flex items-start gap-2 md:flex-col lg:flex-row">
        <button class="button" @click="accepting = [flag]">{{ pgettext('flag', 'Accept') }}<span class="sr-only"> {{ flag.sentence }}</span></button>
        <button v-if="flag.act === 'trim'" class="button" @click="trimming = [flag]">{{ gettext('Trim') }}<span class="sr-only"> {{ flag.sentence }}</span></button>
        <button v-if="canEnd(flag)" class="button-end" @click="ending = [flag]">{{ flag.subject.kind === 'session' ? gettext('End session') : gettext('End access') }}<span class="sr-only"> {{ flag.sentence }}</span></button>
      </div>
    </li>
  </ul>
  <section v-if="chosen.length" class="card sticky bottom-3 z-20 mt-3 border-moss p-4 shadow-lg" :aria-label="gettext('Many at once')">
    <div class="flex flex-wrap items-center gap-3">
      <strong>{{ gettext('%{count} selected', { count: ngettext('%{n} flag', '%{n} flags', chosen.length) }) }}</strong>
      <button class="button" @click="accepting = chosen">{{ pgettext('flag', 'Accept %{count}', { count: ngettext('%{n} flag', '%{n} flags', chosen.length) }) }}</button>
      <button v-if="chosen.some((flag) => flag.act === 'trim')" class="button" @click="trimming = chosen.filter((flag) => flag.act === 'trim')">{{ gettext('Trim %{count}', { count: ngettext('%{n} grant', '%{n} grants', chosen.filter((flag) => flag.act === 'trim').length) }) }}</button>
      <button v-if="chosen.some(canEnd)" class="button-end" @click="ending = chosen.filter(canEnd)">{{ endLabel }}</button>
      <label class="flex items-center gap-2">{{ gettext('Assigned to') }}
        <RecordPicker of="people" :label="gettext('Assigned to')" class="w-52" :filter="MAY_SEE_TO" :model-value="null" @update:model-value="$event && assign(chosen, $event)" />
      </label>
      <button class="link" @click="picked = []">{{ gettext('Clear selection') }}</button>
    </div>
    <ProblemNote :error="failed" />
  </section>
  <nav v-if="hasMore || hasLess" :aria-label="gettext('Pages')" class="mt-3 flex gap-2">
    <button class="button" :disabled="!hasLess" @click="less">{{ gettext('Before') }}</button>
    <button class="button" :disabled="!hasMore" @click="more">{{ gettext('Next') }}</button>
  </nav>
  <AcceptDialog :flags="accepting" @close="((accepting = []), (picked = []))" />
  <ChangeDialog :open="trimming.length > 0" :filter="trims" :title="gettext('Trim what the flags are on')" @close="trimming = []" @done="refetch()" />
  <RevokeDialog :open="ending.length > 0" :grants="of(ending, 'grant')" :sessions="of(ending, 'session')" @close="ending = []" @started="((ending = []), (picked = []))" />
</template>
