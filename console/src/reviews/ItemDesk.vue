<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery, useQueryCache } from '@pinia/colada'
import { computed, nextTick, ref, useTemplateRef, watch } from 'vue'

import { get, getAs, sendAs } from '@/service/api'
import { me } from '@/identity/me'
import type { ItemRow, Named, Preview, Verdict } from '@/service/types'
import { needsReason, revokingWords } from './reviews'
import { day, plain } from '@/frame/words'

import ItemFacts from './ItemFacts.vue'
import PreviewBox from '@/revocations/PreviewBox.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import ItemDecision from './ItemDecision.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import DayField from '@/frame/DayField.vue'

const props = defineProps<{ item: ItemRow; closed: boolean; ended: boolean; acts: string }>()
const emit = defineEmits<{ decided: []; undone: [] }>()
const cache = useQueryCache()

type Doing = Verdict | 'pass' | 'ask' | 'send back' | 'explain'
const doing = ref<Doing | null>(null)
const reason = ref('')
const trimUntil = ref('')
const isNarrowing = ref(false)
const trimLevel = ref('')
const other = ref('')
const shown = ref<{ sentence: string; preview: Preview | null } | null>(null)
const error = ref<unknown>(null)
const isBusy = ref(false)
const field = useTemplateRef('field')

const path = computed(() => `/rounds/${props.item.round_id}/items/${props.item.id}`)
const isStarted = computed(() => Boolean(props.item.revocation_id ?? props.item.offer_id ?? props.item.draft_id))
const isOpen = computed(() => !props.closed && !isStarted.value)
const isGrant = computed(() => ['grant', 'link'].includes(props.item.kind))
const isExposure = computed(() => props.item.kind === 'exposure')
const mayTrim = computed(() => isGrant.value || isExposure.value)
const maySecond = computed(() => isOpen.value && props.item.state === 'seconding' && props.item.decided_by?.id !== me.value?.person.id)
const levels = useQuery({
  key: () => ['levels', props.item.facts.system?.id ?? '', props.item.reach ?? 1],
  query: () =>
    get('/levels', { filter: `system.id eq "${props.item.facts.system?.id}" and single eq false and reach le "${['', 'observe', 'operate', 'spend', 'steward'][props.item.reach ?? 1]}"`, limit: 100 }),
  enabled: () => isGrant.value,
})
const lower = computed(() => (levels.data.value?.rows ?? []).filter((level) => level.name !== props.item.level))
const better = useQuery({
  key: () => ['round', 'better', props.item.id],
  query: () => getAs<{ people: (Named & { why: string })[] }>(`${path.value}/reviewers`),
  enabled: () => doing.value === 'pass',
})
const CURRENT_INSIDE = 'inside eq true and standing eq "current"'
const choices = computed(() => (doing.value === 'pass' ? (better.data.value?.people ?? []).map((person) => ({ id: person.id, name: person.name, note: person.why })) : []))

function clear(): void {
  doing.value = null
  reason.value = trimUntil.value = trimLevel.value = other.value = ''
  isNarrowing.value = false
  shown.value = error.value = null
}
watch(() => props.item.id, clear)

const body = (verdict: Verdict) => ({
  verdict,
  reason: reason.value,
  trim_level: (verdict === 'trim' && trimLevel.value) || null,
  trim_to_use: verdict === 'trim' && isNarrowing.value,
  trim_last_day: (verdict === 'trim' && !isNarrowing.value && trimUntil.value) || null,
  successor: (verdict === 'revoke' && props.item.kind === 'ownership' && other.value) || null,
})

/** Begin something: at once where nothing more is needed, else with what it needs. */
async function begin(what: Doing): Promise<void> {
  clear()
  const advice = props.item.facts.recommendation
  if (what === 'keep' && !needsReason(props.item, 'keep')) return finish('keep')
  doing.value = what
  if (what === advice.verdict) reason.value = what === 'keep' ? '' : advice.reason
  if (what === 'trim') {
    trimLevel.value = advice.level?.id ?? ''
    trimUntil.value = advice.until?.slice(0, 10) ?? ''
  }
  await nextTick()
  field.value?.focus()
  field.value?.select()
  if (what === 'revoke' && props.item.kind !== 'ownership') await preview('revoke')
}

/** What a decision would do, before it is made. */
async function preview(verdict: Verdict): Promise<void> {
  try {
    shown.value = await sendAs<{ sentence: string; preview: Preview | null }>('POST', `${path.value}/preview`, { ...body(verdict), reason: reason.value || 'preview' })
  } catch (failed) {
    error.value = failed
  }
}
watch(isNarrowing, (narrow) => {
  shown.value = error.value = null
  if (narrow) void preview('trim')
})

async function call(at: string, sent: unknown, goOn = true): Promise<void> {
  isBusy.value = true
  error.value = null
  try {
    await sendAs('POST', `${path.value}/${at}`, sent, { 'If-Match': `"${props.item.version}"` })
    clear()
    // The next item can be decided while the list is read again.
    isBusy.value = false
    // Told before that: a decided line may leave it, and this part with it.
    if (goOn) emit('decided')
    await cache.invalidateQueries({ key: ['round'] })
    await cache.invalidateQueries({ key: ['items'] })
  } catch (failed) {
    error.value = failed
  } finally {
    isBusy.value = false
  }
}

async function finish(what: Doing): Promise<void> {
  if (what === 'pass') return call('pass', { to: other.value, reason: reason.value })
  if (what === 'ask') return call('question', { question: reason.value })
  if (what === 'send back') return call('second', { agree: false, reason: reason.value }, false)
  if (what === 'explain') return call('explain', { reason: reason.value }, false)
  return call('decision', body(what))
}
const agree = () => call('second', { agree: true, reason: '' })
function undo(): Promise<void> {
  emit('undone')
  return call('undo', {}, false)
}
const retry = () => call('retry', {}, false)

const LABELS: Record<Doing, string> = {
  keep: gettext('Why it is needed'), trim: gettext('Why less is enough'), revoke: gettext('Why'), pass: gettext('Why they know better'), ask: gettext('What you want to know'), 'send back': gettext('Why you do not agree'), explain: gettext('Why it can not be shown'),
}
const confirmWords = computed(() => {
  if (!doing.value) return ''
  return { keep: gettext('Keep it'), trim: isNarrowing.value ? gettext('Leave only this use') : isExposure.value ? gettext('It is intended until then') : gettext('Trim to this'), revoke: revokingWords(props.item), pass: gettext('Pass it on'), ask: gettext('Ask'), 'send back': gettext('Send it back'), explain: gettext('Explain') }[doing.value]
})
const canFinish = computed(() => {
  if (isBusy.value) return false
  if (isNarrowing.value) return Boolean(shown.value)
  if (doing.value === 'trim') return Boolean(trimLevel.value || trimUntil.value)
  return !(doing.value === 'pass' || (doing.value === 'revoke' && props.item.kind === 'ownership')) || Boolean(other.value)
})
defineExpose({ begin, undo, isOpen, mayTrim })
</script>

<template>
  <article class="card p-5" :aria-label="gettext('Item %{position}', { position: item.position })" data-test="desk">
    <h2 class="text-xl first-letter:uppercase">{{ item.holder.name }} <span class="text-soft">{{ gettext('in') }}</span> {{ item.facts.account.name }}</h2>
    <p class="mb-1 font-medium">{{ item.level }}</p>
    <p class="mb-3"><span class="text-soft">{{ gettext('Consider:') }}</span> <strong>{{ plain(item.recommended) }}<template v-if="item.facts.recommendation.level">{{ ` ${gettext('to %{level}', { level: item.facts.recommendation.level.name })}` }}</template><template v-if="item.facts.recommendation.until">{{ ` ${gettext('until %{until}', { until: day(item.facts.recommendation.until) })}` }}</template></strong>. {{ item.facts.recommendation.reason }}</p>
    <ItemDecision v-if="item.verdict" :item="item" />
    <div v-if="closed && !ended && !item.done_at && me?.administrator && doing !== 'explain'" class="mt-3 flex flex-wrap gap-2">
      <button v-if="!item.revocation_id" class="button" :disabled="isBusy" @click="retry">{{ gettext('Try again') }}</button>
      <button class="button" @click="begin('explain')">{{ gettext('Explain why it can not be shown…') }}</button>
    </div>
    <div v-if="maySecond" class="mt-3 flex flex-wrap gap-2">
      <button class="button-main" :disabled="isBusy" @click="agree">{{ gettext('Agree') }}</button>
      <button class="button" @click="begin('send back')">{{ gettext('Send it back…') }}</button>
    </div>
    <ProblemNote :error="error" />
    <form v-if="doing" class="mt-3 space-y-3" @submit.prevent="canFinish && finish(doing)" @keydown.esc.stop="clear">
      <label v-if="doing === 'pass' || (doing === 'revoke' && item.kind === 'ownership')" class="block font-semibold">
        {{ doing === 'pass' ? gettext('To whom') : gettext('Who is to own it') }}
        <RecordPicker of="people" :label="doing === 'pass' ? gettext('To whom') : gettext('Who is to own it')" class="mt-1" required :filter="CURRENT_INSIDE" :choices="choices" :model-value="other || null" @update:model-value="other = $event ?? ''" />
      </label>
      <p v-if="doing === 'pass' && better.status.value === 'success' && !choices.length" class="text-soft">{{ gettext('Nobody that you see could decide it better. An administrator can pass it on.') }}</p>
      <div v-if="doing === 'trim'" class="grid gap-3 sm:grid-cols-2">
        <label v-if="lower.length" class="block font-semibold">{{ gettext('Lower level') }} <select v-model="trimLevel" class="field mt-1 font-normal"><option value="">{{ gettext('as it is') }}</option><option v-for="level in lower" :key="level.id" :value="level.id">{{ level.name }}</option></select></label>
        <DayField v-if="!isNarrowing" v-model="trimUntil" end :label="isExposure ? gettext('Intended until') : gettext('New last day')" />
        <label v-if="isExposure" class="flex items-center gap-2 self-end pb-2"><input v-model="isNarrowing" type="checkbox" class="size-4" /> {{ gettext('Narrow it to the use that was seen') }}</label>
      </div>
      <label class="block font-semibold">{{ LABELS[doing] }} <input ref="field" v-model="reason" class="field mt-1 font-normal" data-test="reason" /></label>
      <div v-if="shown" class="rounded-md bg-sunk/60 p-3"><p v-if="!shown.preview">{{ shown.sentence }}</p><PreviewBox v-else :preview="shown.preview" class="!mt-0" /></div>
      <div class="flex flex-wrap items-center gap-2">
        <button :class="doing === 'revoke' ? 'button-end' : 'button-main'" :disabled="!canFinish">{{ confirmWords }}</button>
        <button type="button" class="button" @click="clear">{{ gettext('Cancel') }}</button>
        <span v-if="doing === 'revoke' || doing === 'trim'" class="text-sm text-soft">{{ acts === 'when_decided' ? gettext('It starts at once, and can not be taken back.') : gettext('It starts when the round closes; until then it can be taken back.') }}</span>
      </div>
    </form>
    <div v-else-if="isOpen" class="mt-3 flex flex-wrap items-center gap-2">
      <button class="button-main" :disabled="isBusy" @click="begin('keep')">{{ gettext('Keep') }} <kbd>K</kbd></button>
      <button v-if="mayTrim" class="button" @click="begin('trim')">{{ isExposure ? gettext('Intended until, or narrow…') : gettext('Trim…') }} <kbd>T</kbd></button>
      <button class="button-end" @click="begin('revoke')">{{ item.kind === 'grant' || item.kind === 'link' ? gettext('Revoke…') : `${revokingWords(item)}…` }} <kbd>R</kbd></button>
      <template v-if="item.state === 'undecided'">
        <button class="button" @click="begin('pass')">{{ gettext('Pass on…') }} <kbd>P</kbd></button>
        <button class="button" @click="begin('ask')">{{ gettext('Ask…') }} <kbd>A</kbd></button>
      </template>
      <button v-else class="button" :disabled="isBusy" @click="undo">{{ gettext('Take it back') }} <kbd>U</kbd></button>
    </div>
    <ItemFacts :item="item" class="mt-4 border-t border-line pt-4" />
  </article>
</template>
