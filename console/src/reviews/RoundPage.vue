<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, defineAsyncComponent, nextTick, ref, useTemplateRef, watch } from 'vue'

import { get } from '@/service/api'
import { useList } from '@/lists/list'
import { me } from '@/identity/me'
import type { ItemRow } from '@/service/types'
import { actOf, grouped } from './reviews'
import { day, moment, plain } from '@/frame/words'
import BulkBar from './BulkBar.vue'
import ItemDesk from './ItemDesk.vue'
import ItemLine from './ItemLine.vue'
import ListTools from '@/lists/ListTools.vue'
import PageHead from '@/frame/PageHead.vue'
import RoundProgress from './RoundProgress.vue'
import StateNote from '@/frame/StateNote.vue'

// Loaded when it is opened.
const CloseRoundDialog = defineAsyncComponent(() => import('./CloseRoundDialog.vue'))
const props = defineProps<{ id: string }>()
const round = useQuery({ key: () => ['round', props.id], query: () => get(`/rounds/${props.id}`) })
const CHOICES = [
  { label: gettext('All'), filter: '' },
  { label: gettext('Undecided'), filter: 'state eq "undecided"' },
  { label: gettext('Flagged'), filter: 'flagged gt 0' },
  { label: gettext('To be agreed'), filter: 'state eq "seconding"' },
  { label: gettext('Decided'), filter: 'state eq "decided"' },
]
const GROUPS: [string, string, string][] = [['', gettext('no groups'), ''], ['account', plain('account'), 'account.name'], ['holder', plain('holder'), 'holder.name'], ['level', plain('level'), 'level'], ['recommended', plain('recommendation'), 'recommended']]
const { rows, count, status, error, search, filter, sort, hasMore, hasLess, more, less, refetch } = useList<ItemRow>('items', '', `/rounds/${props.id}/items`, 100)

const hereId = ref<string | null>(null)
const picked = ref<string[]>([])
const isClosing = ref(false)
const isWatching = ref(false)
const by = ref(GROUPS.find(([, , key]) => key && key === sort.value)?.[0] ?? '')
const desk = useTemplateRef<InstanceType<typeof ItemDesk>>('desk')
const list = useTemplateRef('list')

watch(by, (name) => (sort.value = GROUPS.find(([key]) => key === name)?.[2] ?? ''))
const data = computed(() => round.data.value)
const here = computed(() => rows.value.find((row) => row.id === hereId.value) ?? null)
const chosen = computed(() => rows.value.filter((row) => picked.value.includes(row.id)))
const groups = computed(() => grouped(rows.value, by.value))
const picks = computed(() => Boolean(data.value && !data.value.closed_at))
const ordered = computed(() => groups.value.flatMap((group) => group.items))
const about = computed(() => {
  const found = data.value
  if (!found) return ''
  const when = { open: gettext('Due %{due_at}.', { due_at: day(found.due_at) }), carrying_out: gettext('Closed %{closed_at}; %{count} still to be carried out.', { closed_at: moment(found.closed_at), count: ngettext('%{n} item', '%{n} items', found.to_do) }), closed: gettext('Closed %{closed_at}; nothing in it can change.', { closed_at: moment(found.closed_at) }) }[found.state]
  const second = found.seconding ? ` ${gettext('%{seconding} wait for a second reviewer.', { seconding: found.seconding })}` : ''
  return gettext('%{decided} of %{items} decided: %{kept} kept, %{trimmed} trimmed, %{revoked} revoked.%{second} %{when}', { decided: found.decided, items: found.items, kept: found.kept, trimmed: found.trimmed, revoked: found.revoked, second, when })
})

// What was decided here a moment ago may still read undecided until the list has been asked for again.
const done = new Set<string>()
let isTurning = false
const waits = (row: ItemRow): boolean => row.state === 'undecided' && !done.has(row.id)

// The first line that still waits is open from the start, so that one can begin at once.
watch(rows, (found, before) => {
  const first = found.find(waits)
  if (!here.value && (first || !isTurning)) {
    isTurning = false
    if (before?.length) void go(first ?? found[0])
    else hereId.value = (first ?? found[0])?.id ?? null
  }
  picked.value = picked.value.filter((id) => found.some((row) => row.id === id))
}, { immediate: true })

async function go(item: ItemRow | undefined): Promise<void> {
  if (!item) return
  hereId.value = item.id
  await nextTick()
  list.value?.querySelector<HTMLElement>('[aria-current=true]')?.focus()
}

/** After a decision the next undecided line opens, so that one goes through by keyboard. */
function goOn(from: ItemRow): void {
  done.add(from.id)
  if (!ordered.value.some(waits) && hasMore.value) {
    hereId.value = null
    isTurning = true
    more()
    return
  }
  const after = ordered.value.slice(ordered.value.findIndex((row) => row.id === from.id) + 1)
  void go(after.find(waits) ?? ordered.value.find(waits) ?? after[0])
}

function pick(item: ItemRow): void {
  picked.value = picked.value.includes(item.id) ? picked.value.filter((id) => id !== item.id) : [...picked.value, item.id]
}

function pickGroup(items: ItemRow[]): void {
  const ids = items.filter((item) => item.state === 'undecided').map((item) => item.id)
  const all = ids.every((id) => picked.value.includes(id))
  picked.value = all ? picked.value.filter((id) => !ids.includes(id)) : [...new Set([...picked.value, ...ids])]
}

/** Keys work while the focus is among the items, and not while one writes. */
function onKey(event: KeyboardEvent): void {
  const where = event.target as HTMLElement
  const act = actOf(event)
  if (!act || !here.value || where.closest('form') || (where instanceof HTMLInputElement && where.type !== 'checkbox')) return
  event.preventDefault()
  const index = ordered.value.findIndex((row) => row.id === hereId.value)
  if (act === 'next' || act === 'before') void go(ordered.value[index + (act === 'next' ? 1 : -1)])
  else if (act === 'pick') pick(here.value)
  else if (act === 'undo') void (here.value.verdict && desk.value?.isOpen && desk.value.undo())
  else if (desk.value?.isOpen && (act !== 'trim' || desk.value.mayTrim)) void desk.value.begin(act)
}
</script>

<template>
  <StateNote :status="round.status.value" :error="round.error.value" @retry="round.refetch()" />
  <template v-if="data">
    <PageHead docs="how-to/review" :title="data.name" :about="about">
      <button v-if="me?.administrator" class="button" :aria-expanded="isWatching" @click="isWatching = !isWatching">{{ gettext('Progress') }}</button>
      <a v-if="me?.administrator && data.ended_at" class="button-main" :href="`/api/v1/rounds/${data.id}/evidence`" download>{{ gettext('Download the evidence') }}</a>
      <button v-if="me?.administrator && !data.closed_at" class="button-main" @click="isClosing = true">{{ gettext('Close the round') }}</button>
    </PageHead>
    <progress :value="data.decided" :max="data.items" class="mb-2 h-3 w-full accent-moss" :aria-label="gettext('Decided')" />
    <p class="mb-4 text-soft">
      <template v-if="data.mine">{{ `${gettext('%{mine_left} of %{count} left for you.', { mine_left: data.mine_left, count: ngettext('%{n} item', '%{n} items', data.mine) })} ` }}</template>
      <template v-if="data.by_default">{{ `${gettext('%{count} came to an administrator, since nobody in line may decide.', { count: ngettext('%{n} item', '%{n} items', data.by_default) })} ` }}</template>
      <template v-if="data.left_undecided">{{ `${gettext('%{count} nobody had decided at the close.', { count: ngettext('%{n} item', '%{n} items', data.left_undecided) })} ` }}</template>
      <template v-if="data.event">{{ gettext('Opened because: %{event}.', { event: data.event }) }}</template>
    </p>
    <RoundProgress v-if="isWatching" :id="data.id" />
    <ListTools v-model:search="search" v-model:filter="filter" :count="count" noun="items" list="" :choices="CHOICES" />
    <div class="mb-3 flex flex-wrap items-center gap-x-5 gap-y-1 text-soft">
      <label>{{ gettext('Group by') }} <select v-model="by" class="field ml-1 inline-block w-auto min-w-40"><option v-for="[value, words] in GROUPS" :key="value" :value="value">{{ words }}</option></select></label>
      <p v-if="picks" class="hidden text-sm md:block">{{ gettext('Keys while the focus is on an item:') }} <kbd>↑</kbd> <kbd>↓</kbd> {{ gettext('move,') }} <kbd>K</kbd> {{ gettext('keep,') }} <kbd>T</kbd> {{ gettext('trim,') }} <kbd>R</kbd> {{ gettext('revoke,') }} <kbd>P</kbd> {{ gettext('pass on,') }} <kbd>A</kbd> {{ gettext('ask,') }} <kbd>U</kbd> {{ gettext('take back,') }} <kbd>X</kbd> {{ gettext('pick') }}</p>
    </div>
    <StateNote :status="status" :error="error" :empty="!rows.length" :empty-text="gettext('Nothing is left to decide here.')" @retry="refetch" />
    <div v-if="rows.length" class="grid items-start gap-5 lg:grid-cols-[minmax(0,5fr)_minmax(0,6fr)]" @keydown="onKey">
      <div ref="list" class="order-2 lg:order-1">
        <section v-for="group in groups" :key="group.name" class="card mb-3 overflow-hidden" :aria-label="group.name || gettext('Items')">
          <h2 v-if="group.name" class="flex items-center gap-3 bg-sunk px-4 py-2 font-sans text-base">
            <span class="flex-1">{{ group.name }} <span class="font-normal text-soft">{{ ngettext('%{n} item', '%{n} items', group.items.length) }}</span></span>
            <button v-if="picks" class="button min-h-7 py-0.5 text-sm" @click="pickGroup(group.items)">{{ gettext('Select all') }}<span class="sr-only">{{ ` ${gettext('of %{group}', { group: group.name })}` }}</span></button>
          </h2>
          <ul>
            <ItemLine v-for="item in group.items" :key="item.id" :item="item" :here="item.id === hereId" :picks="picks" :picked="picked.includes(item.id)" @open="go(item)" @pick="pick(item)" />
          </ul>
        </section>
        <nav v-if="hasMore || hasLess" :aria-label="gettext('Pages')" class="flex gap-2">
          <button class="button" :disabled="!hasLess" @click="less">{{ gettext('Before') }}</button>
          <button class="button" :disabled="!hasMore" @click="more">{{ gettext('Next') }}</button>
        </nav>
      </div>
      <div class="order-1 lg:sticky lg:top-3 lg:order-2 lg:max-h-[calc(100vh-1.5rem)] lg:overflow-y-auto">
        <ItemDesk v-if="here" ref="desk" :item="here" :closed="Boolean(data.closed_at)" :ended="Boolean(data.ended_at)" :acts="data.acts" @decided="goOn(here)" @undone="done.delete(here.id)" />
      </div>
    </div>
    <BulkBar :round="data.id" :items="chosen" @clear="picked = []" />
    <CloseRoundDialog v-if="isClosing" :round="data" :open="isClosing" @close="isClosing = false" />
  </template>
</template>
