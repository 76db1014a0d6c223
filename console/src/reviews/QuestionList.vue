<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import type { QuestionRow } from '@/service/types'

import ProblemNote from '@/frame/ProblemNote.vue'

const { data, refetch } = useQuery({
  key: ['items', 'questions'],
  query: () => get('/questions', { filter: `person.id eq "${me.value?.person.id}" and not (answered_at pr) and round_closed eq false` }),
})
const answers = reactive<Record<string, string>>({})
const failed = ref<unknown>(null)

async function answer(question: QuestionRow): Promise<void> {
  failed.value = null
  try {
    await send('POST', `/questions/${question.id}/answer`, { answer: answers[question.id] ?? '' })
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <section v-if="data?.rows.length" id="questions" class="card mb-5 border-l-4 border-l-brass p-5" aria-labelledby="asked">
    <h2 id="asked" class="text-xl">{{ gettext('Questions to you') }}</h2>
    <form v-for="question in data.rows" :key="question.id" class="mt-3 flex flex-wrap items-end gap-3" @submit.prevent="answer(question)">
      <label class="min-w-64 flex-1">
        <span class="block">{{ gettext('%{asked_by} about “%{level}” in %{account}:', { asked_by: question.asked_by?.name ?? gettext('A reviewer'), level: question.level, account: question.account.name }) }} <strong>{{ question.question }}</strong></span>
        <input v-model="answers[question.id]" required class="field mt-1" />
      </label>
      <button class="button-main">{{ gettext('Answer') }}</button>
    </form>
    <ProblemNote :error="failed" />
  </section>
</template>
