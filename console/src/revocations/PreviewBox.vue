<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { Preview } from '@/service/types'

import ReachMark from '@/frame/ReachMark.vue'

defineProps<{ preview: Preview }>()
const HANGS: Record<string, string> = { object: gettext('Left over'), job: gettext('Stops'), key: 'A machine’s key', others: gettext('Others lose'), password: gettext('Note') }
</script>

<template>
  <div class="mt-3 space-y-4">
    <section v-for="change in preview.changes" :key="change.holder.id + change.account.id">
      <h3 class="font-sans font-semibold">{{ gettext('%{holder} in %{account}', { holder: change.holder.name, account: change.account.name }) }}</h3>
      <ul v-if="change.ends.length" class="mt-1 space-y-1">
        <li v-for="right in change.ends" :key="right.key" class="flex flex-wrap items-baseline gap-x-3">
          <span class="w-16 font-semibold text-rust">{{ gettext('ends') }}</span>
          <span class="flex-1">{{ right.sentence }}</span>
          <ReachMark :reach="right.reach" />
        </li>
      </ul>
      <ul v-if="change.remains.length" class="mt-1 space-y-1">
        <li v-for="path in change.remains" :key="path.words" class="flex flex-wrap items-baseline gap-x-3">
          <span class="w-16 font-semibold text-brass">{{ gettext('remains') }}</span>
          <span class="flex-1">{{ path.level }}: {{ path.words }}</span>
        </li>
      </ul>
      <p v-else class="mt-1 text-soft">{{ gettext('No other path is known.') }}</p>
    </section>
    <section v-if="preview.sessions.length">
      <h3 class="font-sans font-semibold">{{ gettext('Sessions that end') }}</h3>
      <ul class="mt-1 list-disc pl-5">
        <li v-for="session in preview.sessions" :key="session.id">{{ gettext('%{holder} in %{account}', { holder: session.holder, account: session.account }) }}</li>
      </ul>
    </section>
    <p v-if="preview.apps_that_stop.length" class="rounded-md bg-brass-wash p-3">
      {{ gettext('Stops working there: %{apps_that_stop}.', { apps_that_stop: preview.apps_that_stop.join(', ') }) }}
    </p>
    <section v-if="preview.stops?.length" class="rounded-md bg-brass-wash p-3">
      <h3 class="font-sans font-semibold">{{ gettext('What depends on it') }}</h3>
      <ul class="mt-1 space-y-1">
        <li v-for="stop in preview.stops" :key="stop.sentence"><span class="font-semibold">{{ HANGS[stop.kind] }}:</span> {{ stop.sentence }}</li>
      </ul>
    </section>
    <section v-if="preview.unknown?.length" class="rounded-md bg-sunk p-3">
      <h3 class="font-sans font-semibold">{{ gettext('What reads do not cover') }}</h3>
      <ul class="mt-1 list-disc pl-5 text-sm"><li v-for="gap in preview.unknown" :key="gap">{{ gap }}</li></ul>
    </section>
    <p v-if="preview.without_owner.length" class="rounded-md bg-brass-wash p-3">
      {{ gettext('Without an owner: %{without_owner}.', { without_owner: preview.without_owner.join(', ') }) }}
    </p>
    <section>
      <h3 class="font-sans font-semibold">{{ gettext('What will be done') }}</h3>
      <ol v-if="preview.steps.length" class="mt-1 list-decimal pl-5">
        <li v-for="step in preview.steps" :key="step.sentence">{{ step.sentence }}</li>
      </ol>
      <p v-else class="text-soft">{{ gettext('The register does it by itself; no system has to be changed.') }}</p>
      <p class="mt-1 text-soft">
        {{ preview.undo_alone ? gettext('It can be put back without anybody else.') : gettext('Putting all of it back needs somebody else, or hands.') }}
      </p>
    </section>
  </div>
</template>
