<script setup lang="ts">
import { gettext } from '@/frame/language'
import { plain } from '@/frame/words'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import type { AccountOf, LatchState } from '@/service/types'

import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'
import { permissionsOf } from '@/grants/queries'

interface LatchRow {
  kind: string
  mode: LatchState['mode']
  number: number | null
  pair: string[]
  account: AccountOf | null
}
interface Broken {
  broken: { account: { id: string; name: string }; breaches: { fact: string }[] }[]
}

const props = defineProps<{ account?: string; accountKind?: string; system?: string; isOwner?: boolean }>()
const KINDS: [string, string][] = [
  ['most_delegates', gettext('At most this many delegates')], ['one_at_a_time', gettext('One delegate at a time')], ['no_outsiders', gettext('No outsiders')],
  ['no_spend_outside', gettext('No outsider may spend')], ['ends_within', gettext('Every grant ends within this many days')], ['two_stewards', gettext('Two stewards at all times')],
  ['second_factor', gettext('Delegates have a second factor')], ['unseen', gettext('Delegates don’t see one another')], ['nothing_public', gettext('Nothing in it is public')],
  ['payer_stays', gettext('Whoever pays for it has access')],
  ['never_together', gettext('Two permissions never in one hand')],
]
const { data, status, error, refetch } = useQuery({
  key: () => ['account', props.account ?? '', 'latches', props.accountKind ?? ''],
  query: async () => {
    if (props.account) return (await get(`/accounts/${props.account}/latches`)).rows
    const rows = (await get('/latches', { filter: `account_kind eq "${props.accountKind}"`, limit: 50 })).rows
    return KINDS.map(([kind, words]) => ({ ...({ mode: 'off', number: null, pair: [], ...rows.find((r) => r.kind === kind) } as LatchRow), kind, words, of_kind: false, broken: [] as string[] }))
  },
})
const permissions = useQuery(permissionsOf(() => props.system))
const editing = ref('')
const form = reactive({ mode: 'warn' as LatchState['mode'], number: 3, first: '', second: '' })
const preview = ref<Broken | null>(null)
const failed = ref<unknown>(null)
const shown = computed(() => data.value?.filter((latch) => props.accountKind || props.isOwner || latch.mode !== 'off') ?? [])

function edit(latch: LatchState): void {
  editing.value = latch.kind
  preview.value = failed.value = null
  Object.assign(form, { mode: latch.mode === 'off' ? 'warn' : latch.mode, number: latch.number ?? (latch.kind === 'ends_within' ? 365 : 3), first: latch.pair[0] ?? '', second: latch.pair[1] ?? '' })
}
const body = (kind: string) => ({
  kind,
  mode: form.mode,
  account: props.account ?? null,
  account_kind: props.accountKind ?? null,
  number: ['most_delegates', 'ends_within'].includes(kind) ? form.number : null,
  pair: kind === 'never_together' ? [form.first, form.second] : [],
})
async function attempt(call: () => Promise<void>): Promise<void> {
  failed.value = null
  try {
    await call()
  } catch (problem) {
    failed.value = problem
  }
}
const look = (kind: string) => attempt(async () => { preview.value = await send('POST', '/latches/preview', body(kind)) })
const set = (kind: string) => attempt(async () => {
  await send('PUT', '/latches', body(kind))
  editing.value = ''
  void refetch()
})
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <p v-if="status === 'success' && !shown.length" class="text-soft">{{ gettext('No latch is on.') }}</p>
  <ul class="divide-y divide-line">
    <li v-for="latch in shown" :key="latch.kind" class="py-2">
      <div class="flex flex-wrap items-baseline gap-x-3">
        <span class="w-14 font-semibold" :class="latch.mode === 'hold' ? 'text-moss' : latch.mode === 'warn' ? 'text-brass' : 'text-soft'">{{ plain(latch.mode) }}</span>
        <span class="flex-1">{{ latch.words }}<span v-if="latch.of_kind" class="text-soft">{{ ` ${gettext('(of all accounts of its kind)')}` }}</span></span>
        <button v-if="isOwner || accountKind" class="button" :aria-expanded="editing === latch.kind" @click="editing === latch.kind ? (editing = '') : edit(latch)">{{ gettext('Set') }}<span class="sr-only"> {{ latch.words }}</span></button>
      </div>
      <p v-for="fact in latch.broken" :key="fact" class="ml-17 text-sm text-rust">{{ gettext('Broken: %{fact}', { fact }) }}</p>
      <form v-if="editing === latch.kind" class="mt-2 space-y-3 rounded-md bg-sunk p-3" @submit.prevent="set(latch.kind)">
        <fieldset class="flex flex-wrap gap-4">
          <legend class="sr-only">{{ gettext('Mode') }}</legend>
          <label v-for="mode in ['off', 'warn', 'hold'] as const" :key="mode"><input v-model="form.mode" type="radio" :value="mode" class="accent-moss" @change="preview = null" /> {{ { off: 'off', warn: gettext('warn: say so, and let it pass'), hold: gettext('hold: refuse it') }[mode] }}</label>
        </fieldset>
        <label v-if="['most_delegates', 'ends_within'].includes(latch.kind)" class="block">{{ gettext('How many') }} <input v-model.number="form.number" type="number" min="1" class="field ml-2 inline w-28" @input="preview = null" /></label>
        <div v-if="latch.kind === 'never_together'" class="grid gap-2 sm:grid-cols-2">
          <template v-for="side in ['first', 'second'] as const" :key="side">
            <select v-if="permissions.data.value" v-model="form[side]" class="field" :aria-label="side === 'first' ? gettext('The first permission') : gettext('The second permission')" @change="preview = null"><option v-for="right in permissions.data.value.permissions" :key="right.key" :value="right.key">{{ right.sentence }}</option></select>
            <input v-else v-model="form[side]" class="field font-mono text-sm" :aria-label="side === 'first' ? gettext('The key of the first permission') : gettext('The key of the second permission')" @input="preview = null" />
          </template>
        </div>
        <div v-if="preview" role="status">
          <p v-if="!preview.broken.length">{{ gettext('Nothing breaks it now.') }}</p>
          <p v-for="row in preview.broken" :key="row.account.id"><strong>{{ row.account.name }}</strong> {{ gettext('breaks it: %{breaches}. That stays, and is flagged.', { breaches: row.breaches.map((b) => b.fact).join('; ') }) }}</p>
        </div>
        <ProblemNote :error="failed" />
        <div class="flex gap-2"><button type="button" class="button" @click="look(latch.kind)">{{ gettext('Preview') }}</button><button class="button-main">{{ gettext('Set it to %{mode}', { mode: plain(form.mode) }) }}</button></div>
      </form>
    </li>
  </ul>
</template>
