<script setup lang="ts">
import { gettext } from '@/frame/language'
import RecordPicker from '@/records/RecordPicker.vue'
import { useQuery } from '@pinia/colada'
import { computed } from 'vue'
import { RouterLink } from 'vue-router'

import { send } from '@/service/api'
import type { Place } from '@/service/types'
import { COVERS, itemsOf } from './reviews'
import { SEVERITY_WORDS } from '@/frame/words'

import FateChoice from './FateChoice.vue'

export interface ReviewDraft {
  name: string
  scope: string
  covers: string[]
  days_to_decide: number
  reviewers: Place[]
  acts: string
  undecided: Record<string, string>
  second_from: number | null
  reminders: number[]
  closes_after: number | null
}

const draft = defineModel<ReviewDraft>({ required: true })
const CURRENT_INSIDE = 'inside eq true and standing eq "current"'

/** The first of the line; others can be put before them from the command line. */
const first = computed({
  get: () => draft.value.reviewers[0]?.kind ?? 'owner',
  set: (kind: Place['kind']) => ask(kind, null),
})
function ask(kind: Place['kind'], id: string | null): void {
  draft.value.reviewers = [{ kind, id, account_kind: '' }]
}

const held = useQuery({
  key: () => ['rounds', 'preview', draft.value.scope, draft.value.covers.join(), JSON.stringify(draft.value.reviewers)],
  enabled: () => !['team', 'person'].includes(first.value) || Boolean(draft.value.reviewers[0]?.id),
  query: () => send('POST', '/rounds/preview', { ...draft.value, name: 'x', reminders: [] }),
})
const inIt = computed(() => (held.data.value?.population ?? []).filter((kind) => kind.items).map((kind) => itemsOf(kind.kind, kind.items)).join(', '))

const reminders = computed({
  get: () => draft.value.reminders.join(', '),
  set: (text: string) => (draft.value.reminders = text.split(',').map(Number).filter((days) => Number.isInteger(days) && days > 0)),
})
const closes = computed({
  get: () => (draft.value.closes_after === null ? '' : String(draft.value.closes_after)),
  set: (text: string) => (draft.value.closes_after = text === '' ? null : Number(text)),
})
</script>

<template>
  <label class="block font-semibold">{{ gettext('Name') }} <input v-model="draft.name" required class="field mt-1 font-normal" :placeholder="gettext('Sensitive accounts')" /></label>
  <slot />
  <fieldset>
    <legend class="font-semibold">{{ gettext('What is reviewed') }}</legend>
    <div class="mt-1 grid gap-x-4 sm:grid-cols-2">
      <label v-for="[value, words] in COVERS" :key="value"><input v-model="draft.covers" type="checkbox" :value="value" class="accent-moss" /> {{ words }}</label>
    </div>
  </fieldset>
  <label class="block font-semibold">{{ gettext('Which of them') }} <span class="font-normal text-soft">{{ gettext('(a filter; empty for all)') }}</span><input v-model.lazy="draft.scope" class="field mt-1 font-mono text-sm font-normal" :placeholder="gettext('account.sensitivity ge 3')" /></label>
  <p class="text-soft" role="status">{{ held.error.value ? held.error.value.message : held.data.value ? gettext('As things are, it would hold: %{in_it}.', { in_it: inIt || gettext('nothing') }) : '' }}</p>
  <p v-if="held.data.value?.without_sign_in.length" class="rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">
    {{ gettext('May be asked, and can’t sign in to answer:') }} <template v-for="(one, at) in held.data.value.without_sign_in" :key="one.id">{{ at ? ', ' : '' }}<RouterLink :to="`/people/${one.id}`" class="link">{{ one.name }}</RouterLink></template>{{ gettext('%{more_without_sign_in}. Invite them from their pages, or ask somebody else first.', { more_without_sign_in: held.data.value.more_without_sign_in ? ` ${gettext('and more')}` : '' }) }}
  </p>
  <div class="grid gap-4 sm:grid-cols-2">
    <div>
      <label class="block font-semibold">{{ gettext('Who is asked first') }}
        <select v-model="first" class="field mt-1 font-normal">
          <option value="owner">{{ gettext('Each account\'s owner') }}</option>
          <option value="manager">{{ gettext('The holder\'s manager') }}</option>
          <option value="team">{{ gettext('Anyone of a team') }}</option>
          <option value="person">{{ gettext('One person') }}</option>
        </select>
      </label>
      <RecordPicker v-if="first === 'team' || first === 'person'" :key="first" :of="first === 'team' ? 'teams' : 'people'" :label="first === 'team' ? gettext('Which team') : gettext('Which person')" class="mt-1" required :filter="first === 'person' ? CURRENT_INSIDE : undefined" :model-value="draft.reviewers[0]?.id ?? null" @update:model-value="ask(first, $event)" />
    </div>
    <label class="block font-semibold">{{ gettext('Days to decide') }} <input v-model.number="draft.days_to_decide" type="number" min="1" max="365" class="field mt-1 font-normal" /></label>
    <label class="block font-semibold">{{ gettext('Reminders, days before') }} <input v-model.lazy="reminders" class="field mt-1 font-normal" placeholder="7, 1" /></label>
    <label class="block font-semibold">{{ gettext('Second reviewer') }}
      <select v-model="draft.second_from" class="field mt-1 font-normal"><option :value="null">{{ gettext('none') }}</option><option v-for="severity in [2, 3, 4]" :key="severity" :value="severity">{{ gettext('from %{severity} flags on', { severity: SEVERITY_WORDS[severity] }) }}</option></select>
    </label>
    <label class="block font-semibold">{{ gettext('Decisions happen') }}
      <select v-model="draft.acts" class="field mt-1 font-normal"><option value="when_decided">{{ gettext('at once') }}</option><option value="at_close">{{ gettext('when it closes') }}</option></select>
    </label>
    <label class="block font-semibold">{{ gettext('Closes by itself, days after it is due') }} <input v-model="closes" type="number" min="0" max="365" class="field mt-1 font-normal" :placeholder="gettext('never')" /></label>
  </div>
  <FateChoice v-model="draft.undecided" />
</template>
