<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import type { Four, LimitOf, OwnRulesChecked, RuleEffect, RuleOf, RulesPage } from '@/service/types'
import { SENSITIVITY_WORDS } from '@/frame/words'
import EffectList from '@/grants/EffectList.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['rules'], query: () => get('/rules') })
const limits = reactive<Record<string, Four>>({})
const off = ref<string[]>([])
const effects = ref<RuleEffect[] | null>(null)
const failed = ref<unknown>(null)
const said = ref('')
const file = ref('')
const checked = ref<OwnRulesChecked | null>(null)
const isLooking = ref(false)

function offOf(page?: RulesPage): string[] {
  return (page?.rules ?? []).filter((rule) => rule.off).map((rule) => rule.key)
}

// Read again while somebody changes something here: what they changed stays as they have it.
watch(data, (found, before) => {
  if (!found) return
  const known = new Map((before?.limits ?? []).map((limit) => [limit.name, String(limit.values)]))
  for (const limit of found.limits) {
    if (!limits[limit.name] || String(limits[limit.name]) === known.get(limit.name)) limits[limit.name] = [...limit.values]
  }
  if (String(off.value) === String(offOf(before))) off.value = offOf(found)
}, { immediate: true })

const named = computed(() => new Map((data.value?.limits ?? []).map((limit) => [limit.name, limit])))
const changed = computed(() => {
  const found: Record<string, Four> = {}
  for (const limit of data.value?.limits ?? []) {
    if (String(limits[limit.name]) !== String(limit.values)) found[limit.name] = limits[limit.name] as Four
  }
  return found
})
const switched = computed(() => {
  return offOf(data.value).sort().join() !== [...off.value].sort().join()
})
const wish = computed(() => ({
  ...(Object.keys(changed.value).length ? { limits: changed.value } : {}),
  ...(switched.value ? { off: off.value } : {}),
}))
const isChanged = computed(() => Object.keys(wish.value).length > 0)
const SUBJECTS: Record<string, string> = { grant: gettext('Grants and links'), session: gettext('Sessions'), account: gettext('Accounts'), person: gettext('People'), offer: gettext('Offers') }
const groups = computed(() => Object.entries(SUBJECTS).map(([subject, title]) => ({ subject, title, rules: (data.value?.rules ?? []).filter((rule) => rule.subject === subject) })))

function limitsOf(rule: RuleOf): LimitOf[] {
  return rule.limits.map((name) => named.value.get(name)).filter((limit): limit is LimitOf => limit !== undefined)
}

function setLimit(name: string, place: number, written: string): void {
  const four = limits[name] as Four
  four[place] = written.trim() === '' ? null : Math.max(0, Math.floor(Number(written)) || 0)
}

async function attempt(call: () => Promise<void>): Promise<void> {
  failed.value = null
  said.value = ''
  try {
    await call()
  } catch (problem) {
    failed.value = problem
  }
}

let turn = 0
watch(wish, (wanted) => {
  const mine = ++turn
  effects.value = null
  if (!Object.keys(wanted).length || !me.value?.administrator) return
  isLooking.value = true
  window.setTimeout(() => {
    if (mine !== turn) return
    void attempt(async () => {
      const found = await send('POST', '/rules/preview', wanted)
      if (mine === turn) effects.value = found.effects
    }).finally(() => (isLooking.value = false))
  }, 350)
}, { deep: true })

const save = () => attempt(async () => {
  await send('PUT', '/rules', wish.value)
  said.value = gettext('The rules are set; flags follow within moments.')
  effects.value = null
  await refetch()
})
const check = () => attempt(async () => {
  checked.value = await send('POST', '/rules/own/check', { text: file.value })
})
const load = () => attempt(async () => {
  await send('POST', '/rules/own', { text: file.value })
  said.value = gettext('The rules are live; flags follow within moments.')
  checked.value = null
  file.value = ''
  await refetch()
})
const drop = (rule: RuleOf) => attempt(async () => {
  await send('DELETE', `/rules/own/${rule.key}`)
  said.value = gettext('“%{title}” is out of use.', { title: rule.title })
  await refetch()
})
const edit = (rule: RuleOf) => attempt(async () => {
  file.value = (await get(`/rules/own/${rule.key}`)).source
})
async function read(event: Event): Promise<void> {
  const chosen = (event.target as HTMLInputElement).files?.[0]
  if (chosen) file.value = await chosen.text()
}
watch(file, () => (checked.value = null))
</script>

<template>
  <PageHead docs="reference/rules" :title="gettext('Rules')" :words="['rule','flag','sensitivity']" :about="gettext('What raises flags. Limits go by how sensitive an account is; an empty limit means that the rule is off there.')">
    <RouterLink to="/facts" class="button">{{ gettext('What they know about me') }}</RouterLink>
  </PageHead>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote :error="failed" />
  <div v-if="data" class="grid items-start gap-5" :class="me?.administrator ? 'xl:grid-cols-[minmax(0,1fr)_24rem]' : ''">
    <div class="space-y-5">
      <section v-for="group in groups" :key="group.subject" class="card" :aria-labelledby="`on-${group.subject}`">
        <h2 :id="`on-${group.subject}`" class="px-5 pt-4 text-xl">{{ group.title }}</h2>
        <ul class="divide-y divide-line">
          <li v-for="rule in group.rules" :key="rule.key" class="px-5 py-3" :class="off.includes(rule.key) ? 'opacity-70' : ''">
            <div class="flex flex-wrap items-baseline gap-x-3">
              <h3 class="font-sans text-base font-semibold tracking-normal">{{ rule.title }}</h3>
              <span v-if="rule.own" class="rounded-sm bg-brass-wash px-1.5 py-px text-xs font-semibold text-brass">{{ gettext('our own') }}</span>
              <RouterLink v-if="rule.open" :to="{ path: '/flags', query: { filter: `state eq &quot;open&quot; and rule eq &quot;${rule.key}&quot;` } }" class="link ml-auto">{{ gettext('%{count} open', { count: ngettext('%{n} flag', '%{n} flags', rule.open) }) }}</RouterLink>
              <span v-else class="ml-auto text-soft">{{ gettext('none open') }}</span>
              <template v-if="me?.administrator">
                <template v-if="rule.own">
                  <button class="link" @click="edit(rule)">{{ gettext('Edit') }}<span class="sr-only"> {{ rule.title }}</span></button>
                  <button class="link" @click="drop(rule)">{{ gettext('Drop') }}<span class="sr-only"> {{ rule.title }}</span></button>
                </template>
                <label v-else class="whitespace-nowrap"><input v-model="off" type="checkbox" :value="rule.key" class="accent-rust" /> {{ gettext('off') }}<span class="sr-only">: {{ rule.title }}</span></label>
              </template>
            </div>
            <p class="text-sm text-soft">{{ rule.about }} {{ rule.remedy }}</p>
            <div v-for="limit in limitsOf(rule)" :key="limit.name" class="mt-2 flex flex-wrap items-center gap-x-3 gap-y-1 text-sm">
              <span class="min-w-56 flex-1">{{ limit.about }} <span class="text-soft">({{ limit.unit }})</span></span>
              <label v-for="place in 4" :key="place" class="flex items-center gap-1">
                <span class="text-soft">{{ SENSITIVITY_WORDS[place] }}</span>
                <input
                  v-if="me?.administrator" class="field w-18 min-h-8 px-2 py-0.5 text-right tabular-nums" inputmode="numeric"
                  :class="limits[limit.name]?.[place - 1] !== limit.values[place - 1] ? 'border-brass bg-brass-wash' : ''"
                  :value="limits[limit.name]?.[place - 1] ?? ''" placeholder="–"
                  @change="setLimit(limit.name, place - 1, ($event.target as HTMLInputElement).value)"
                />
                <strong v-else>{{ limit.values[place - 1] ?? '–' }}</strong>
              </label>
            </div>
          </li>
        </ul>
      </section>
    </div>
    <aside v-if="me?.administrator" class="space-y-5 xl:sticky xl:top-4">
      <section class="card p-5" aria-labelledby="would">
        <h2 id="would" class="text-xl">{{ gettext('What a change would do') }}</h2>
        <p v-if="!isChanged" class="mt-1 text-soft">{{ gettext('Change a limit or switch a rule off: what that would raise and clear is shown here before it is saved.') }}</p>
        <p v-else-if="!effects" class="mt-1 text-soft" role="status">{{ isLooking ? gettext('Looking through the register …') : '' }}</p>
        <template v-else>
          <EffectList :effects="effects" />
          <button class="button-main mt-3" @click="save">{{ gettext('Save the rules') }}</button>
        </template>
      </section>
      <section class="card p-5" aria-labelledby="own">
        <h2 id="own" class="text-xl">{{ gettext('Rules of our own') }}</h2>
        <p class="mt-1 mb-2 text-soft">{{ gettext('A file with filters, and examples that must and must not match.') }}</p>
        <label class="block font-semibold">{{ gettext('File') }} <input type="file" accept=".toml" class="mt-1 block w-full font-normal" @change="read" /></label>
        <label class="mt-2 block font-semibold">{{ gettext('Or write it here') }} <textarea v-model="file" rows="8" spellcheck="false" class="field mt-1 font-mono text-xs font-normal" /></label>
        <div class="mt-2 flex gap-2">
          <button class="button" :disabled="!file" @click="check">{{ gettext('Try it') }}</button>
          <button class="button-main" :disabled="!checked || checked.failures.length > 0" @click="load">{{ gettext('Make it live') }}</button>
        </div>
        <template v-if="checked">
          <ul class="mt-3 space-y-1">
            <li v-for="rule in checked.rules" :key="rule.key"><strong>{{ rule.key }}</strong>: {{ checked.failures.some((f) => f.rule === rule.key) ? gettext('fails') : gettext('holds') }}</li>
            <li v-for="failure in checked.failures" :key="`${failure.rule}${failure.example}${failure.expected}`" class="text-rust">{{ gettext('%{rule}, example %{example} of %{expected}: %{why}', { rule: failure.rule, example: failure.example, expected: failure.expected ? gettext('matches') : gettext('misses'), why: failure.why }) }}</li>
          </ul>
          <EffectList v-if="!checked.failures.length" :effects="checked.effects" />
        </template>
      </section>
    </aside>
  </div>
</template>
