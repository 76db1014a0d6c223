<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import type { ItemRow } from '@/service/types'
import { DONE_WORDS } from './reviews'
import { ago, day, plain, untilWords } from '@/frame/words'

import ReachMark from '@/frame/ReachMark.vue'
import SeverityMark from '@/flags/SeverityMark.vue'

defineProps<{ item: ItemRow }>()
</script>

<template>
  <div class="space-y-3">
    <div class="flex flex-wrap items-baseline gap-x-4">
      <p class="flex-1 basis-72">{{ item.facts.sentence }}</p>
      <ReachMark v-if="item.reach" :reach="item.reach" />
    </div>
    <ul v-if="item.facts.flags.length" class="space-y-1">
      <li v-for="flag in item.facts.flags" :key="flag.rule" class="flex gap-2"><SeverityMark :severity="flag.severity" class="shrink-0 self-start" /> {{ flag.sentence }}</li>
    </ul>
    <dl class="grid grid-cols-[8.5rem_1fr] gap-x-3 gap-y-1">
      <template v-if="item.facts.given_at">
        <dt class="text-soft">{{ gettext('Given') }}</dt>
        <dd>{{ gettext('%{given_at} by %{given_by}%{reason}', { given_at: day(item.facts.given_at), given_by: item.facts.given_by?.name ?? gettext('nobody known'), reason: item.facts.reason ? `: “${item.facts.reason}”` : '' }) }}</dd>
        <dt class="text-soft">{{ gettext('Until') }}</dt>
        <dd>{{ untilWords(item.facts) }}</dd>
        <dt class="text-soft">{{ gettext('Used') }}</dt>
        <dd>
          {{ ago(item.facts.last_used_at) }}<template v-if="item.facts.use?.used">{{ gettext('; %{used} of %{count}, watched since %{observed_since}', { used: item.facts.use.used, count: ngettext('%{n} permission', '%{n} permissions', item.facts.use.held), observed_since: day(item.facts.use.observed_since) }) }}</template>
        </dd>
      </template>
      <template v-if="item.facts.people?.count">
        <dt class="text-soft">{{ gettext('Lets in') }}</dt>
        <dd>{{ item.facts.people.names.join(', ') }}<template v-if="item.facts.people.count > item.facts.people.names.length">{{ ` ${gettext('and %{count} more', { count: item.facts.people.count - item.facts.people.names.length })}` }}</template></dd>
      </template>
      <template v-if="item.facts.others">
        <dt class="text-soft">{{ gettext('Other ways in') }}</dt>
        <dd v-if="!item.facts.others.length">{{ gettext('none') }}</dd>
        <dd v-else><span v-for="other in item.facts.others" :key="other" class="block">{{ other }}</span></dd>
      </template>
      <template v-if="item.facts.peers">
        <dt class="text-soft">{{ gettext('Same job') }}</dt>
        <dd>{{ gettext('%{have} of %{count} with the job “%{job}” hold something here', { have: item.facts.peers.have, count: ngettext('%{n} person', '%{n} people', item.facts.peers.people), job: item.facts.peers.job }) }}</dd>
      </template>
      <dt class="text-soft">{{ gettext('Last time') }}</dt>
      <dd v-if="item.facts.last_decision">
        {{ gettext('%{done} by %{by}, %{at}%{reason}', { done: DONE_WORDS[item.facts.last_decision.verdict], by: item.facts.last_decision.by ?? gettext('nobody'), at: day(item.facts.last_decision.at), reason: item.facts.last_decision.reason ? `: “${item.facts.last_decision.reason}”` : '' }) }}
      </dd>
      <dd v-else>{{ gettext('not reviewed before') }}</dd>
      <template v-if="item.question">
        <dt class="text-soft">{{ item.question.of }}</dt>
        <dd>{{ gettext('was asked: “%{question}”', { question: item.question.question }) }} <strong v-if="item.question.answer">“{{ item.question.answer }}”</strong><span v-else class="text-soft">{{ gettext('No answer yet.') }}</span></dd>
      </template>
    </dl>
    <p v-if="item.changes.length" class="rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2"><strong>{{ gettext('Since it was frozen:') }}</strong> {{ item.changes.join(' ') }}</p>
    <p class="text-sm text-soft">
      {{ gettext('For %{reviewer}. %{assigned_as}', { reviewer: item.reviewer?.name ?? item.reviewer_team?.name ?? gettext('nobody yet'), assigned_as: item.assigned_as }) }}
      <template v-if="item.needs_second">{{ ` ${gettext('A second reviewer has to agree to a keep or a trim%{second}.', { second: item.second ? `: ${item.second.name}` : '' })}` }}</template>
      <template v-if="item.kind !== 'grant'"> ({{ plain(item.kind) }})</template>
    </p>
  </div>
</template>
