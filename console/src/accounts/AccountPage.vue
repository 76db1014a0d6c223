<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, defineAsyncComponent, nextTick, ref, watch } from 'vue'
import { RouterLink, useRoute, useRouter } from 'vue-router'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { Path } from '@/service/types'
import { lanesOption } from '@/access/charts'
import { outsidersOf } from '@/exposure/exposure'
import { isDark } from '@/frame/theme'
import { number, plain } from '@/frame/words'
import AccountHead from './AccountHead.vue'
import CoverageBox from './CoverageBox.vue'
import ExposedBox from './ExposedBox.vue'
import GivingForm from './GivingForm.vue'
import PartsBox from './PartsBox.vue'
import ChartBox from '@/frame/ChartBox.vue'
import HistoryBox from '@/journal/HistoryBox.vue'
import HolderName from '@/people/HolderName.vue'
import LatchBox from '@/latches/LatchBox.vue'
import PathList from '@/access/PathList.vue'
import PathPicture from '@/access/PathPicture.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import SeverityMark from '@/flags/SeverityMark.vue'
import StateNote from '@/frame/StateNote.vue'
import SessionsBox from '@/grants/SessionsBox.vue'
import DayField from '@/frame/DayField.vue'
import { accountPage } from './queries'

// Large, and seldom needed: loaded when they are opened.
const ChangeDialog = defineAsyncComponent(() => import('@/grants/ChangeDialog.vue'))
const HandOverDialog = defineAsyncComponent(() => import('@/offers/HandOverDialog.vue'))
const RecordAccessDialog = defineAsyncComponent(() => import('@/records/RecordAccessDialog.vue'))
const RecordDialog = defineAsyncComponent(() => import('@/records/RecordDialog.vue'))
const TermsDialog = defineAsyncComponent(() => import('@/grants/TermsDialog.vue'))

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery(accountPage(() => props.id))
const flags = useQuery({
  key: () => ['flags', 'of account', props.id],
  query: () => get('/flags', { filter: `account.id eq "${props.id}" and state eq "open"`, limit: 8 }),
})

const exposed = useQuery({
  key: () => ['exposures', 'of account', props.id],
  query: () => get('/exposures', { filter: `account.id eq "${props.id}"`, limit: 500, count: true }),
})
const outsiders = computed(() => (asOf.value ? [] : outsidersOf(exposed.data.value?.rows ?? [])))
const owns = computed(() => !me.value?.inside && Boolean(me.value?.administrator || data.value?.owner?.id === me.value?.person.id))
const router = useRouter()
/** The grant about which a reminder has led here. */
const asked = String(useRoute().query.extend ?? '')
const isEditing = ref(false)
const isRecording = ref(false)
const isHandingOver = ref(false)
const isDisconnecting = ref(false)
const terms = ref<string | null>(null)
const extended = ref('')
const notExtended = ref<unknown>(null)

/** One click, for the button says what it does; latches and history see to the rest. */
async function extend(path: Path, to: string): Promise<void> {
  extended.value = ''
  notExtended.value = null
  try {
    const { lines } = await proving(() => send('POST', '/changes', { kind: 'set_end', grants: [path.grant_id], last_day: to, reason: gettext('Still needed.') }))
    extended.value = `${path.holder.name}: ${lines[0]?.does}.`
  } catch (problem) {
    notExtended.value = problem
  }
  void refetch()
}
watch(data, async (found) => {
  if (!asked || !found) return
  await nextTick()
  document.getElementById(`grant-${asked}`)?.focus()
}, { immediate: true, once: true })

// So many paths can be read and drawn; the page of an account comes with as many.
const MOST = 500
const asOf = ref('')
const knownOn = ref('')
const noon = (written: string) => (written ? new Date(`${written}T12:00`).toISOString() : undefined)
const then = useQuery({
  key: () => ['account', props.id, 'then', asOf.value, knownOn.value],
  query: () => get(`/accounts/${props.id}/access`, { at: noon(asOf.value), believed: noon(knownOn.value), limit: MOST }),
  enabled: () => asOf.value !== '',
})
const drawn = computed(() => (asOf.value ? (then.data.value?.paths ?? []) : (data.value?.paths ?? [])))
const ending = ref<Path | null>(null)
const timed = computed(() => data.value?.paths.filter((path) => !path.owns) ?? [])
const option = computed(() => (isDark.value, lanesOption(timed.value, Date.now())))
const summary = computed(() => {
  if (!data.value) return ''
  const { holder_count: holders, path_count: paths } = data.value
  return gettext('%{count} by %{count_2}', { count: ngettext('%{n} person or app', '%{n} people and apps', holders), count_2: ngettext('%{n} path', '%{n} paths', paths) })
})
const left = computed(() => (asOf.value ? (then.data.value?.count ?? 0) : (data.value?.path_count ?? 0)) - drawn.value.length)

/** The parts of the page that there are. */
const places = computed(() => {
  const found = data.value
  const known: [string, string, boolean][] = [
    ['people', gettext('People'), true],
    ['flags', gettext('What is wrong'), Boolean(flags.data.value?.rows.length)],
    ['picture', gettext('Picture'), drawn.value.length + outsiders.value.length > 0],
    ['at-parts', gettext('Parts'), Boolean(found?.answers_for)],
    ['at-sessions', gettext('Sessions'), Boolean(found?.sessions)],
    ['at-history', gettext('History'), true],
    ['latches', gettext('Latches'), true],
  ]
  return known.filter(([, , isThere]) => isThere)
})
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <AccountHead :account="data" :owns="owns" @record="isRecording = true" @edit="isEditing = true" @hand-over="isHandingOver = true" @disconnect="isDisconnecting = true" />
    <nav v-if="data.answers_for" :aria-label="gettext('On this page')" class="mb-4 flex flex-wrap gap-x-4 gap-y-1 text-sm">
      <a v-for="[place, label] in places" :key="place" :href="`#${place}`" class="link">{{ label }}</a>
    </nav>
    <div v-if="data.answers_for" class="mb-2 flex flex-wrap items-end gap-x-4 gap-y-2">
      <DayField v-model="asOf" past :label="gettext('As it was on')" :placeholder="gettext('now')" class="w-56" />
      <DayField v-if="asOf" v-model="knownOn" past :label="gettext('As known on')" :placeholder="gettext('now')" class="w-56" />
      <button v-if="asOf" class="link mb-2" @click="((asOf = ''), (knownOn = ''))">{{ gettext('Back to now') }}</button>
    </div>
    <ProblemNote v-if="asOf" :error="then.error.value" />
    <template v-if="asOf && data.answers_for">
      <h2 class="mb-2 text-xl">{{ gettext('Who could reach it then') }}</h2>
      <PathList v-if="then.data.value?.paths.length" :paths="then.data.value.paths" by="holder" :can-end="false" class="mb-6" />
      <StateNote v-else :status="then.status.value" :error="null" empty :empty-text="gettext('Nobody could reach it then, as far as was known.')" class="mb-6" />
    </template>
    <p v-if="left > 0" class="card mb-5 px-5 py-3">
      {{ gettext('The first %{drawn} paths are here, the shortest and those that reach farthest; %{left} more are not.', { drawn: number(drawn.length), left: number(left) }) }} <RouterLink class="link" :to="{ path: '/grants', query: { filter: `account.id eq &quot;${data.id}&quot;` } }">{{ gettext('All grants on it') }}</RouterLink>{{ gettext('; every path:') }} <code class="font-mono">openlatch account access '{{ data.name }}'</code>
    </p>
    <h2 id="people" class="mb-2 scroll-mt-4 text-xl">
      {{ data.answers_for ? gettext('Everyone and everything that can reach it') : gettext('How you reach it') }}
      <span class="ml-2 font-sans text-base font-normal text-soft">{{ summary }}</span>
    </h2>
    <p v-if="extended" role="status" class="mb-2 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ extended }}</p>
    <ProblemNote :error="notExtended" class="mb-2" />
    <PathList v-if="data.paths.length" :paths="data.paths" by="holder" :asked="asked" :can-end="data.answers_for" :can-change="data.answers_for" @end="ending = $event" @change="terms = $event.grant_id" @extend="extend" />
    <StateNote v-else status="success" empty :empty-text="data.partial_since ? gettext('Nobody is known to reach it. Not all of it could be read, so somebody may.') : gettext('Nobody is known to reach it.')" />
    <template v-if="data.not_in_force.length">
      <h2 class="mt-6 mb-2 text-xl">{{ gettext('Not in force') }}</h2>
      <ul class="card divide-y divide-line">
        <li v-for="grant in data.not_in_force" :key="grant.id" class="flex flex-wrap gap-x-4 px-5 py-2.5">
          <HolderName :holder="grant.holder" class="min-w-48" />
          <span>{{ grant.level }}<template v-if="grant.part">{{ ` ${gettext('on %{part}', { part: grant.part })}` }}</template></span>
          <span class="text-soft">{{ plain(grant.state) }}: {{ grant.reason }}</span>
        </li>
      </ul>
    </template>
    <section v-if="flags.data.value?.rows.length" class="card my-6 scroll-mt-4 border-l-4 border-l-rust" aria-labelledby="flags">
      <h2 id="flags" class="px-5 pt-3 text-xl">{{ gettext('What is wrong') }}</h2>
      <ul class="divide-y divide-line">
        <li v-for="flag in flags.data.value.rows" :key="flag.id" class="flex items-start gap-3 px-5 py-2">
          <SeverityMark :severity="flag.severity" class="w-22 shrink-0" />
          <p>{{ flag.sentence }}</p>
        </li>
      </ul>
    </section>
    <ExposedBox v-if="data.answers_for && !asOf && exposed.data.value?.rows.length" :account="data.id" :exposures="exposed.data.value" />
    <PathPicture v-if="data.answers_for && (drawn.length || outsiders.length)" :paths="drawn" :account="data.name" :outsiders="outsiders" id="picture" class="mt-6 mb-5 scroll-mt-4" />
    <div v-if="data.answers_for || data.parts.length || data.others.length" id="at-parts" class="mt-6 scroll-mt-4 grid items-start gap-5 lg:grid-cols-2">
      <section v-if="data.others.length" class="card p-5" aria-labelledby="others">
        <h2 id="others" class="mb-1 text-xl">{{ gettext('Who else is here') }}</h2>
        <ul><li v-for="other in data.others" :key="other.name" class="flex gap-3 py-1"><span class="flex-1">{{ other.name }}<span v-if="other.owns" class="text-soft">{{ gettext(', the owner') }}</span></span><ReachMark :reach="other.reach" /></li></ul>
      </section>
      <CoverageBox v-if="data.coverage.looked_at?.length || data.coverage.not_looked_at?.length" :account="data" />
      <PartsBox v-if="data.parts.length || data.answers_for" :account="data" @done="refetch()" />
      <GivingForm v-if="owns" :account="data" @done="refetch()" />
    </div>
    <SessionsBox v-if="data.answers_for" id="at-sessions" :account="id" class="mt-6 scroll-mt-4" />
    <section v-if="timed.length > 1" class="mt-6" aria-labelledby="lanes">
      <h2 id="lanes" class="text-xl">{{ gettext('When it ends') }}</h2>
      <p class="mb-2 text-soft">{{ gettext('A post marks an end; a pale bar has none. Red can spend or decide who else gets in.') }}</p>
      <ChartBox class="card p-2" :option="option" :height="48 + timed.length * 26" :label="gettext('Lanes of access with their ends; the list above says the same')" />
    </section>
    <HistoryBox v-if="data.answers_for" id="at-history" class="scroll-mt-4" :filter="`account_id eq &quot;${id}&quot;`" :of="data.name" />
    <section v-if="data.answers_for" class="card mt-6 scroll-mt-4 p-5" aria-labelledby="latches">
      <h2 id="latches" class="mb-1 text-xl">{{ gettext('Latches') }}</h2>
      <LatchBox :account="data.id" :system="data.system.id ?? undefined" :is-owner="owns" />
    </section>
    <TermsDialog v-if="terms" :grant="terms" :account="data" @close="terms = null" @done="refetch()" />
    <ChangeDialog v-if="isDisconnecting" open :filter="`account.id eq &quot;${id}&quot; and holder.kind eq &quot;app&quot;`" only="end" :title="gettext('Disconnect %{data} from all apps', { data: data.name })" @close="isDisconnecting = false" @done="refetch()" />
    <HandOverDialog v-if="owns && isHandingOver" open :account="data" @close="isHandingOver = false" />
    <RevokeDialog :open="ending !== null" :grants="ending?.grant_id ? [ending.grant_id] : []" @close="ending = null" @started="ending = null" />
    <RecordDialog v-if="isEditing" :open="isEditing" kind="accounts" :id="id" @close="isEditing = false" @done="refetch()" @gone="router.push('/accounts')" />
    <RecordAccessDialog v-if="isRecording" :open="isRecording" :account="data" @close="isRecording = false" @done="refetch()" />
  </template>
</template>
