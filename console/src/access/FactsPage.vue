<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref } from 'vue'
import { useRoute } from 'vue-router'

import { get, send } from '@/service/api'
import { day, plain } from '@/frame/words'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const route = useRoute()
const person = String(route.query.person ?? '')
const { data, status, error, refetch } = useQuery({ key: ['facts', person], query: () => get('/facts', { person }) })
const failed = ref<unknown>(null)
const said = ref('')

function value(held: unknown): string {
  if (typeof held === 'boolean') return held ? gettext('yes') : gettext('no')
  if (held === null || held === -1) return gettext('not known')
  return /^\d{4}-\d\d-\d\dT/.test(String(held)) ? day(String(held)) : String(held)
}

async function want(wants: boolean): Promise<void> {
  failed.value = null
  try {
    await send('POST', '/me/digest', { wants })
    said.value = wants ? gettext('The weekly letter comes on Mondays, when something changed.') : gettext('The weekly letter does not come any more.')
  } catch (problem) {
    failed.value = problem
  }
}
</script>

<template>
  <PageHead docs="reference/rules" :title="person ? gettext('What the rules know about them') : gettext('What the rules know about me')" :about="gettext('Every fact that rules use, and the rules that use it. Nothing else is used.')">
    <div v-if="!person" class="flex gap-2">
      <button class="button" @click="want(true)">{{ gettext('Get the weekly letter') }}</button>
      <button class="button" @click="want(false)">{{ gettext('No letter') }}</button>
    </div>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="failed" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <div class="space-y-4">
    <section v-for="entry in data?.subjects ?? []" :key="entry.subject.id + entry.subject.kind" class="card p-5">
      <h2 class="text-xl">{{ entry.subject.kind === 'person' ? entry.holder : gettext('%{kind} on %{account}', { kind: plain(entry.subject.kind), account: entry.account }) }}</h2>
      <p class="text-soft">{{ ngettext('%{n} rule looks at this.', '%{n} rules look at this.', entry.rules.length) }}</p>
      <ul class="my-2 list-disc pl-5">
        <li v-for="rule in entry.rules.filter((one) => one.found)" :key="rule.key" class="font-medium">{{ rule.sentence }}</li>
      </ul>
      <div class="grid gap-5 md:grid-cols-2">
        <details>
          <summary class="cursor-pointer font-semibold">{{ ngettext('%{n} fact', '%{n} facts', entry.facts.length) }}</summary>
          <dl class="mt-1">
            <div v-for="fact in entry.facts" :key="fact.name" class="flex gap-3 border-b border-line py-1 text-sm"><dt class="flex-1 text-soft">{{ fact.about }}</dt><dd class="text-right">{{ value(fact.value) }}</dd></div>
          </dl>
        </details>
        <details>
          <summary class="cursor-pointer font-semibold">{{ gettext('The rules') }}</summary>
          <ul class="mt-1 text-sm"><li v-for="rule in entry.rules" :key="rule.key" class="border-b border-line py-1"><strong>{{ rule.title }}</strong> <span v-if="rule.found" class="text-rust">{{ gettext('speaks') }}</span><br /><span class="text-soft">{{ rule.about }}</span></li></ul>
        </details>
      </div>
    </section>
  </div>
</template>
