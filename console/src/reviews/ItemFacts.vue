<script setup lang="ts">
import type { ItemRow } from '@/service/types'
import { DONE_WORDS } from './reviews'
import { ago, counted, day, plain, untilWords } from '@/frame/words'

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
        <dt class="text-soft">Given</dt>
        <dd>{{ day(item.facts.given_at) }} by {{ item.facts.given_by?.name ?? 'nobody known' }}{{ item.facts.reason ? `: “${item.facts.reason}”` : '' }}</dd>
        <dt class="text-soft">Until</dt>
        <dd>{{ untilWords(item.facts) }}</dd>
        <dt class="text-soft">Used</dt>
        <dd>
          {{ ago(item.facts.last_used_at) }}<template v-if="item.facts.use?.used">; {{ item.facts.use.used }} of {{ counted(item.facts.use.held, 'permission') }}, watched since {{ day(item.facts.use.observed_since) }}</template>
        </dd>
      </template>
      <template v-if="item.facts.people?.count">
        <dt class="text-soft">Lets in</dt>
        <dd>{{ item.facts.people.names.join(', ') }}<template v-if="item.facts.people.count > item.facts.people.names.length"> and {{ item.facts.people.count - item.facts.people.names.length }} more</template></dd>
      </template>
      <template v-if="item.facts.others">
        <dt class="text-soft">Other ways in</dt>
        <dd v-if="!item.facts.others.length">none</dd>
        <dd v-else><span v-for="other in item.facts.others" :key="other" class="block">{{ other }}</span></dd>
      </template>
      <template v-if="item.facts.peers">
        <dt class="text-soft">Same job</dt>
        <dd>{{ item.facts.peers.have }} of {{ counted(item.facts.peers.people, 'person', 'people') }} with the job “{{ item.facts.peers.job }}” hold something here</dd>
      </template>
      <dt class="text-soft">Last time</dt>
      <dd v-if="item.facts.last_decision">
        {{ DONE_WORDS[item.facts.last_decision.verdict] }} by {{ item.facts.last_decision.by ?? 'nobody' }}, {{ day(item.facts.last_decision.at) }}{{ item.facts.last_decision.reason ? `: “${item.facts.last_decision.reason}”` : '' }}
      </dd>
      <dd v-else>not reviewed before</dd>
      <template v-if="item.question">
        <dt class="text-soft">{{ item.question.of }}</dt>
        <dd>was asked: “{{ item.question.question }}” <strong v-if="item.question.answer">“{{ item.question.answer }}”</strong><span v-else class="text-soft">No answer yet.</span></dd>
      </template>
    </dl>
    <p v-if="item.changes.length" class="rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2"><strong>Since it was frozen:</strong> {{ item.changes.join(' ') }}</p>
    <p class="text-sm text-soft">
      For {{ item.reviewer?.name ?? item.reviewer_team?.name ?? 'nobody yet' }}. {{ item.assigned_as }}
      <template v-if="item.needs_second"> A second reviewer has to agree to a keep or a trim{{ item.second ? `: ${item.second.name}` : '' }}.</template>
      <template v-if="item.kind !== 'grant'"> ({{ plain(item.kind) }})</template>
    </p>
  </div>
</template>
