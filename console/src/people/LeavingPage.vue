<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { CallFailed, get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { LeavingPreview } from '@/service/types'
import { endingWords, moment } from '@/frame/words'
import CountDown from './CountDown.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import PageHead from '@/frame/PageHead.vue'
import PreviewBox from '@/revocations/PreviewBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ id: string }>()
const page = useQuery({ key: () => ['leaving', props.id], query: () => get(`/people/${props.id}/leaving`) })
function put(account: string, successor: string | null): void {
  if (successor) form.successors[account] = successor
  else delete form.successors[account]
}
const successorsOf = (one: LeavingPreview['accounts'][number]) => [
  ...one.suggested.map((person) => ({ ...person, note: gettext('near at hand') })),
  ...(one.owned ? [] : [{ id: NOBODY, name: 'Nobody, on purpose' }]),
]
const form = reactive<{ successors: Record<string, string>; lock: boolean; drop: boolean; reason: string }>({ successors: {}, lock: true, drop: false, reason: '' })
const preview = ref<LeavingPreview | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const isAnew = ref(false)
const NOBODY = 'nobody'

const isChoosing = computed(() => page.data.value !== undefined && (page.data.value.begun_at === null || isAnew.value))
const wish = computed(() => ({
  successors: Object.fromEntries(Object.entries(form.successors).filter(([, to]) => to).map(([account, to]) => [account, to === NOBODY ? null : to])),
  lock: form.lock,
  drop: form.drop,
}))
const lacking = computed(() => (preview.value?.accounts ?? []).filter((one) => !form.successors[one.account.id]))
const doing = computed(() => {
  const found = preview.value
  if (!found) return ''
  const rights = found.revocation.changes.filter((change) => change.holder.id === props.id).reduce((sum, change) => sum + change.ends.length, 0)
  const locks = found.revocation.steps.filter((step) => step.kind === 'lock' || step.kind === 'drop').length
  const words = endingWords(rights, found.revocation.sessions.length)
  const said = rights || found.revocation.sessions.length ? words : gettext('Let %{person} leave', { person: found.person.name })
  return locks ? gettext('%{said}, and %{drop} %{count}', { said, drop: form.drop ? 'drop' : 'lock', count: ngettext('%{n} login', '%{n} logins', locks) }) : said
})

async function look(): Promise<void> {
  error.value = null
  try {
    preview.value = await send('POST', `/people/${props.id}/leaving/preview`, wish.value)
  } catch (failed) {
    error.value = failed
  }
}

async function start(): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    const body = { ...wish.value, reason: form.reason, fingerprint: preview.value?.fingerprint ?? '' }
    await proving(() => send('POST', `/people/${props.id}/leaving`, body))
    isAnew.value = false
    await page.refetch()
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) await look()
    error.value = failed
  } finally {
    isBusy.value = false
  }
}

watch([isChoosing, wish], ([choosing]) => choosing && void look(), { immediate: true })
</script>

<template>
  <StateNote :status="page.status.value" :error="page.error.value" @retry="page.refetch()" />
  <template v-if="page.data.value && !isChoosing">
    <PageHead :title="gettext('%{person} leaves', { person: page.data.value.person.name })" :about="gettext('Begun %{begun_at}. Counted in the register as it is now.', { begun_at: moment(page.data.value.begun_at) })">
      <RouterLink v-for="ident in page.data.value.revocations" :key="ident" :to="`/revocations/${ident}`" class="button">{{ gettext('The steps') }}</RouterLink>
      <button v-if="page.data.value.left && page.data.value.lines.some((line) => !line.ended && line.kind === 'account')" class="button" @click="isAnew = true">{{ gettext('Resume…') }}</button>
    </PageHead>
    <CountDown :page="page.data.value" />
  </template>
  <template v-else-if="preview">
    <PageHead docs="how-to/somebody-leaves" :title="gettext('Let %{person} leave', { person: preview.person.name })" :about="gettext('Everything that they reach, in every system, ends in one go. Nothing happens yet.')" />
    <form class="grid grid-cols-1 items-start gap-6 wrap-anywhere lg:grid-cols-[minmax(0,3fr)_minmax(0,2fr)]" @submit.prevent="start">
      <div class="space-y-5">
        <section class="card p-5" aria-labelledby="alone">
          <h2 id="alone" class="text-xl">{{ gettext('What only they can decide about') }}</h2>
          <p v-if="!preview.accounts.length" class="text-soft">{{ gettext('Nothing: somebody else answers for every account that they reach.') }}</p>
          <ul class="mt-2 divide-y divide-line">
            <li v-for="one in preview.accounts" :key="one.account.id" class="flex flex-wrap items-center gap-x-4 gap-y-2 py-2.5">
              <p class="min-w-52 flex-1"><span class="font-semibold">{{ one.account.name }}</span> <span class="text-soft">{{ one.why }}</span></p>
              <RecordPicker of="people" :label="gettext('Who takes over %{account}', { account: one.account.name })" class="w-64" :placeholder="gettext('Who takes over?')" filter="standing eq &quot;current&quot;" :choices="successorsOf(one)" :without="[id]" :model-value="form.successors[one.account.id] ?? null" @update:model-value="put(one.account.id, $event)" />
            </li>
          </ul>
        </section>
        <section v-if="preview.logins.length" class="card p-5" aria-labelledby="logins">
          <h2 id="logins" class="text-xl">{{ gettext('Their logins') }}</h2>
          <ul class="mt-1 list-disc pl-5"><li v-for="login in preview.logins" :key="login.id">{{ gettext('%{login} in %{system}', { login: login.name, system: login.system.name }) }}<span class="text-soft">{{ login.locked ? gettext(', locked already') : login.lockable ? '' : gettext(', which we can’t lock') }}</span></li></ul>
          <label class="mt-2 block"><input v-model="form.lock" type="checkbox" class="size-6 align-middle accent-moss" /> {{ gettext('lock those that can be locked') }}</label>
          <label v-if="preview.logins.some((login) => login.droppable)" class="block"><input v-model="form.drop" type="checkbox" class="size-6 align-middle accent-moss" /> {{ gettext('delete those that can be deleted; this can’t be undone') }}</label>
        </section>
        <section v-if="preview.teams.length || preview.speaks_for.length || preview.offers || preview.requests || preview.items" class="card p-5" aria-labelledby="besides">
          <h2 id="besides" class="text-xl">{{ gettext('Besides') }}</h2>
          <ul class="mt-1 list-disc pl-5">
            <li v-for="team in preview.teams" :key="team">{{ gettext('leaves %{team}, with all that it gives', { team }) }}</li>
            <li v-for="team in preview.speaks_for" :key="`speaks ${team}`">{{ gettext('nobody answers for %{team} any more', { team }) }}</li>
            <li v-if="preview.offers">{{ gettext('%{count} to them withdrawn', { count: ngettext('%{n} offer', '%{n} offers', preview.offers) }) }}</li>
            <li v-if="preview.requests">{{ gettext('%{count} of theirs withdrawn', { count: ngettext('%{n} request', '%{n} requests', preview.requests) }) }}</li>
            <li v-if="preview.items">{{ gettext('%{count} that they should decide pass on', { count: ngettext('%{n} item', '%{n} items', preview.items) }) }}</li>
          </ul>
        </section>
        <label class="block font-semibold">{{ gettext('Why') }} <input v-model="form.reason" required minlength="3" class="field mt-1 font-normal" :placeholder="gettext('Their season is over.')" /></label>
        <ProblemNote :error="error" />
        <div class="flex flex-wrap items-center justify-end gap-3">
          <p v-if="lacking.length" class="text-soft">{{ gettext('Say first who takes over %{lacking}.', { lacking: lacking.map((one) => one.account.name).join(', ') }) }}</p>
          <RouterLink :to="`/people/${id}`" class="button">{{ gettext('Cancel') }}</RouterLink>
          <button class="button-end" :disabled="isBusy || lacking.length > 0 || form.reason.trim().length < 3" data-test="leave">{{ doing }}</button>
        </div>
      </div>
      <section class="card max-h-[75vh] overflow-y-auto p-5" tabindex="0" aria-labelledby="plan"><h2 id="plan" class="text-xl">{{ gettext('The plan') }}</h2><PreviewBox :preview="preview.revocation" /></section>
    </form>
  </template>
  <ProblemNote v-else :error="error" />
</template>
