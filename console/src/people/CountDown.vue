<script setup lang="ts">
import { computed } from 'vue'

import { gettext, ngettext, pgettext } from '@/frame/language'
import type { LeavingPage } from '@/service/types'
import { endsWords, moment } from '@/frame/words'

import ProofMark from '@/revocations/ProofMark.vue'

const props = defineProps<{ page: LeavingPage }>()
const isOver = computed(() => props.page.left === 0)
const report = computed(() => `/api/v1/people/${props.page.person.id}/leaving/report`)
</script>

<template>
  <div class="grid grid-cols-1 items-start gap-6 wrap-anywhere lg:grid-cols-[minmax(0,2fr)_minmax(0,3fr)]">
    <section class="card p-5" aria-labelledby="left">
      <h2 id="left" class="sr-only">{{ gettext('What is left') }}</h2>
      <p class="font-display text-8xl font-bold tabular-nums" :class="isOver ? 'text-link' : 'text-rust'" aria-live="polite" data-test="left">{{ page.left }}</p>
      <p class="text-lg font-semibold">{{ isOver ? gettext('Nothing is left to do') : gettext('left of %{all}', { all: page.all }) }}</p>
      <p class="mt-1" data-test="ends">{{ gettext('Ended: %{ends}', { ends: endsWords(page.ends) }) }}</p>
      <p v-if="isOver" class="mt-1 text-soft">{{ gettext('The last ended %{done_at}.', { done_at: moment(page.done_at) }) }} <a :href="report" download="leaver.json" class="link">{{ gettext('Download the report') }}</a></p>
      <ul class="mt-4 space-y-3">
        <li v-for="one in page.systems" :key="one.system">
          <p class="flex justify-between gap-3"><span class="font-medium">{{ one.system }}</span><span class="text-soft tabular-nums">{{ one.left ? gettext('%{left} of %{all} left', { left: one.left, all: one.all }) : endsWords(one.ends) }}</span></p>
          <progress :value="one.all - one.left" :max="one.all" class="mt-1 h-2 w-full" :aria-label="gettext('How much has ended in %{system}', { system: one.system })" />
          <p v-if="one.left" class="text-sm text-soft">{{ gettext('Ended: %{ends}', { ends: endsWords(one.ends) }) }}</p>
          <p v-if="one.left && one.answer" class="text-sm text-soft">{{ one.answer }}</p>
        </li>
      </ul>
      <template v-if="page.remains.length">
        <h3 class="mt-5 font-sans font-semibold">{{ gettext('Remains, as for everybody there') }}</h3>
        <ul class="mt-1 list-disc pl-5 text-sm"><li v-for="path in page.remains" :key="path">{{ path }}</li></ul>
      </template>
      <template v-if="page.unknown.length">
        <h3 class="mt-5 font-sans font-semibold">{{ gettext('What reads do not cover') }}</h3>
        <ul class="mt-1 list-disc pl-5 text-sm"><li v-for="gap in page.unknown" :key="gap">{{ gap }}</li></ul>
      </template>
      <template v-if="page.handed.length">
        <h3 class="mt-5 font-sans font-semibold">{{ gettext('Taken over') }}</h3>
        <ul class="mt-1 list-disc pl-5"><li v-for="one in page.handed" :key="one.account.id">{{ gettext('%{account} by %{to}', { account: one.account.name, to: one.to.name }) }}</li></ul>
      </template>
    </section>
    <section class="card" aria-labelledby="lines">
      <h2 id="lines" class="px-5 pt-4 text-xl">{{ gettext('%{count}, one by one', { count: ngettext('%{n} thing', '%{n} things', page.all) }) }}</h2>
      <ul class="mt-2 divide-y divide-line">
        <li v-for="(line, index) in page.lines" :key="index" class="grid grid-cols-[7.5rem_minmax(0,1fr)] gap-x-3 px-5 py-2.5">
          <span v-if="line.proof"><ProofMark :proof="line.proof" /></span>
          <span v-else class="font-semibold" :class="line.ended ? 'text-soft' : 'text-rust'">{{ line.ended ? gettext('ended') : pgettext('remaining', 'left') }}</span>
          <div>
            <p>{{ line.what }} <span class="text-soft">{{ gettext('in %{system}', { system: line.system }) }}</span></p>
            <p v-if="line.ended || line.answer" class="text-sm text-soft">{{ [line.ended ? moment(line.at) : '', line.proved_by ? gettext('by %{proved_by}', { proved_by: line.proved_by }) : '', line.answer].filter(Boolean).join(': ') }}</p>
          </div>
        </li>
      </ul>
    </section>
  </div>
</template>
