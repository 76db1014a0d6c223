<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { day, moment } from '@/frame/words'

import ActionList from './ActionList.vue'
import HistoryBox from '@/journal/HistoryBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import SeverityMark from '@/flags/SeverityMark.vue'
import StateNote from '@/frame/StateNote.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({ key: () => ['matter', props.id], query: () => get(`/matters/${props.id}`) })
const text = ref('')
const mention = ref<string | null>(null)
const failed = ref<unknown>(null)
const MAY_SEE_TO = 'standing ne "left" and address pr and inside eq true'
const open = computed(() => data.value?.flags.filter((flag) => flag.state === 'open') ?? [])

async function attempt(call: () => Promise<unknown>): Promise<void> {
  failed.value = null
  try {
    await call()
    void refetch()
  } catch (problem) {
    failed.value = problem
  }
}
const comment = () => attempt(async () => {
  await send('POST', `/matters/${props.id}/comments`, { text: text.value, mentions: mention.value ? [mention.value] : [] })
  text.value = ''
  mention.value = null
})
const assign = (person: string | null) => attempt(() => send('POST', '/flags/assign', { flags: open.value.map((flag) => flag.id), person }))
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <PageHead :title="data.title" :about="`${ngettext('%{n} open flag', '%{n} open flags', open.length)}${data.assigned_to.length ? gettext(', assigned to %{assigned_to}', { assigned_to: data.assigned_to.map((one) => one.name).join(', ') }) : ''}`">
      <RouterLink v-if="data.account" :to="`/accounts/${data.account.id}`" class="button">{{ gettext('Open %{account}', { account: data.account.name }) }}</RouterLink>
      <RouterLink v-if="data.holder.kind === 'person'" :to="`/people/${data.holder.id}`" class="button">{{ gettext('Open %{holder}', { holder: data.holder.name }) }}</RouterLink>
    </PageHead>
    <div class="grid items-start gap-5 lg:grid-cols-[3fr_2fr]">
      <div class="space-y-5">
        <section class="card" aria-labelledby="reasons">
          <h2 id="reasons" class="px-5 pt-4 text-xl">{{ gettext('Reasons') }}</h2>
          <p v-if="!data.flags.length" class="px-5 pb-4 text-soft">{{ gettext('No flag is open any more.') }}</p>
          <ul class="mt-2 divide-y divide-line">
            <li v-for="flag in data.flags" :key="flag.id" class="flex flex-wrap items-start gap-3 px-5 py-3 sm:flex-nowrap">
              <SeverityMark :severity="flag.severity" :score="flag.score" class="w-24 shrink-0" />
              <div>
                <p>{{ flag.sentence }}</p>
                <p class="text-sm text-soft">{{ gettext('%{title}, since %{raised_at}. %{remedy}', { title: flag.title, raised_at: day(flag.raised_at), remedy: flag.remedy }) }}<template v-if="flag.state === 'accepted'">{{ ` ${gettext('Accepted until %{accepted_until}: %{accepted_reason}', { accepted_until: day(flag.accepted_until), accepted_reason: flag.accepted_reason })}` }}</template></p>
              </div>
            </li>
          </ul>
        </section>
        <section v-if="data.actions.length" class="card" aria-labelledby="todo">
          <h2 id="todo" class="px-5 pt-4 text-xl">{{ gettext('What you can do') }}</h2>
          <ActionList :actions="data.actions" is-matter @changed="refetch()" />
        </section>
        <section v-if="data.cleared.length" class="card p-5" aria-labelledby="cleared">
          <h2 id="cleared" class="text-xl">{{ gettext('Cleared') }}</h2>
          <ul class="mt-2 space-y-1"><li v-for="flag in data.cleared" :key="flag.id">{{ gettext('%{title}: cleared on %{cleared_at}', { title: flag.title, cleared_at: day(flag.cleared_at) }) }}</li></ul>
        </section>
      </div>
      <div class="space-y-5">
        <section class="card p-5" aria-labelledby="talk">
          <h2 id="talk" class="text-xl">{{ gettext('Comments') }}</h2>
          <p v-if="!data.comments.length" class="mt-1 text-soft">{{ gettext('Nobody has commented yet.') }}</p>
          <ul class="mt-2 space-y-3">
            <li v-for="said in data.comments" :key="said.id"><p class="text-sm text-soft">{{ said.by }}, {{ moment(said.at) }}</p><p class="whitespace-pre-line">{{ said.text }}</p></li>
          </ul>
          <form class="mt-3 space-y-2" @submit.prevent="comment">
            <label class="block font-semibold">{{ gettext('Comment') }} <textarea v-model="text" required rows="2" class="field mt-1 font-normal" /></label>
            <div><p id="mention" class="font-semibold">{{ gettext('Mention') }}</p><RecordPicker of="people" :label="gettext('Mention')" :placeholder="gettext('Nobody')" :filter="MAY_SEE_TO" :model-value="mention" @update:model-value="mention = $event" /></div>
            <button class="button">{{ gettext('Add the comment') }}</button>
          </form>
          <ProblemNote :error="failed" />
        </section>
        <section v-if="open.length" class="card p-5" aria-labelledby="who">
          <h2 id="who" class="text-xl">{{ gettext('Assigned to') }}</h2>
          <RecordPicker of="people" :label="gettext('Assigned to')" class="mt-2" :placeholder="gettext('Nobody')" :filter="MAY_SEE_TO" :model-value="data.assigned_to[0]?.id ?? null" @update:model-value="assign($event)" />
        </section>
        <HistoryBox v-if="data.account" :filter="`account_id eq &quot;${data.account.id}&quot;`" :of="data.account.name" />
      </div>
    </div>
  </template>
</template>
