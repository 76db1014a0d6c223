<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref, watch } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import type { MovePlan, PersonPage } from '@/service/types'

import ModalBox from '@/frame/ModalBox.vue'
import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ open: boolean; person: PersonPage }>()
defineEmits<{ close: [] }>()
const form = reactive({ job: '', joins: [] as string[], leaves: [] as string[] })
const plan = ref<MovePlan | null>(null)
const error = ref<unknown>(null)
const teams = useQuery({ key: ['teams', 'to join'], query: () => get('/teams', { limit: 200 }), enabled: () => props.open })

async function look(): Promise<void> {
  error.value = null
  try {
    plan.value = await send('POST', `/people/${props.person.id}/move/preview`, { ...form, job: form.job || null })
  } catch (problem) {
    plan.value = null
    error.value = problem
  }
}
watch(() => props.open, (open) => {
  if (!open) return
  Object.assign(form, { job: props.person.job ?? '', joins: [], leaves: [] })
  plan.value = null
  void look()
})
</script>

<template>
  <ModalBox :open="open" :title="gettext('%{person} moves', { person: person.name })" @close="$emit('close')">
    <form class="mt-3 space-y-4" @submit.prevent="look">
      <p class="text-soft">{{ gettext('The effect of a new job or team. Nothing changes until you confirm.') }}</p>
      <label class="block font-semibold">{{ gettext('Job') }} <input v-model="form.job" class="field mt-1 font-normal" /></label>
      <fieldset v-if="person.teams.length"><legend class="font-semibold">{{ gettext('Leaves') }}</legend><label v-for="team in person.teams" :key="team.id" class="mr-4 inline-flex items-center gap-1.5"><input v-model="form.leaves" type="checkbox" :value="team.id" class="accent-moss" /> {{ team.name }}</label></fieldset>
      <fieldset><legend class="font-semibold">{{ gettext('Joins') }}</legend><label v-for="team in (teams.data.value?.rows ?? []).filter((one) => !person.teams.some((held) => held.id === one.id))" :key="team.id" class="mr-4 inline-flex items-center gap-1.5"><input v-model="form.joins" type="checkbox" :value="team.id" class="accent-moss" /> {{ team.name }}</label></fieldset>
      <button class="button-main">{{ gettext('Show the plan') }}</button>
      <ProblemNote :error="error" />
      <div v-if="plan" class="space-y-3" role="status">
        <section><h3 class="font-semibold">{{ gettext('Loses') }}</h3><p v-if="!plan.loses.length" class="text-soft">{{ gettext('Nothing.') }}</p><ul class="list-disc pl-5"><li v-for="one in plan.loses" :key="one.account.id">{{ one.account.name }}: {{ one.rights.join(', ') }}</li></ul></section>
        <section><h3 class="font-semibold">{{ gettext('Gets') }}</h3><p v-if="!plan.gets.length" class="text-soft">{{ gettext('Nothing.') }}</p><ul class="list-disc pl-5"><li v-for="one in plan.gets" :key="one.account.id">{{ one.account.name }}: {{ one.rights.join(', ') }}</li></ul></section>
        <section>
          <h3 class="font-semibold">{{ gettext('Keeps') }}</h3>
          <p v-if="!plan.keeps.length" class="text-soft">{{ gettext('Nothing.') }}</p>
          <ul class="list-disc pl-5"><li v-for="one in plan.keeps" :key="one.account.id + one.words">{{ gettext('%{level} on %{account}', { level: one.level, account: one.account.name }) }}<span v-if="plan.peers && one.held_by === 0" class="text-brass">{{ gettext('; nobody else in that job holds it') }}</span></li></ul>
        </section>
        <section>
          <h3 class="font-semibold">{{ gettext('Might need') }}</h3>
          <p class="text-soft">{{ plan.peers < 2 ? gettext('Too few others are in that job to say.') : gettext('What at least half of the %{count} in that job hold.', { count: ngettext('%{n} other', '%{n} others', plan.peers) }) }}</p>
          <ul class="list-disc pl-5"><li v-for="one in plan.might_need" :key="one.account.id + one.level.id">{{ gettext('%{level} on', { level: one.level.name }) }} <RouterLink class="link" :to="{ path: '/give', query: { account: one.account.id } }">{{ one.account.name }}</RouterLink> {{ gettext('(%{held_by} hold it)', { held_by: one.held_by }) }}</li></ul>
        </section>
        <p v-if="plan.rounds.length">{{ gettext('Under review:') }} <RouterLink v-for="one in plan.rounds" :key="one.id" :to="`/rounds/${one.id}`" class="link mr-2">{{ one.name }}</RouterLink></p>
      </div>
      <div class="flex justify-end"><button type="button" class="button" @click="$emit('close')">{{ gettext('Close') }}</button></div>
    </form>
  </ModalBox>
</template>
