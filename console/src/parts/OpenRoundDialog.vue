<script setup lang="ts">
import { Listbox, ListboxButton, ListboxOption, ListboxOptions } from '@headlessui/vue'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref } from 'vue'
import { useRouter } from 'vue-router'

import { get, send } from '@/data/api'
import type { GrantRow, PersonRow, RoundPage, Rows } from '@/data/types'
import { counted } from '@/lib/words'

import ModalBox from './ModalBox.vue'
import ProblemNote from './ProblemNote.vue'

defineProps<{ open: boolean }>()
const emit = defineEmits<{ close: [] }>()
const router = useRouter()

const OWNER = { id: '', name: "Each account's owner" }
const form = reactive({ name: '', scope: 'account.sensitivity ge 3', days: 14, acts: 'when_decided' })
const reviewer = ref<{ id: string; name: string }>(OWNER)
const error = ref<unknown>(null)

const people = useQuery({
  key: ['people', 'reviewers'],
  query: () => get<Rows<PersonRow>>('/people', { filter: 'inside eq true and standing eq "current"', limit: 200 }),
})
const choices = computed(() => [OWNER, ...(people.data.value?.rows ?? [])])
const matching = useQuery({
  key: () => ['grants', 'in scope', form.scope],
  query: () =>
    get<Rows<GrantRow>>('/grants', {
      filter: [form.scope && `(${form.scope})`, '(state eq "active" or state eq "suspended" or state eq "revoking")'].filter(Boolean).join(' and '),
      limit: 1,
      count: true,
    }),
})

async function start(): Promise<void> {
  error.value = null
  try {
    const body = { ...form, reviewer: reviewer.value.id || null }
    const found = await send<RoundPage>('POST', '/rounds', body)
    emit('close')
    await router.push(`/rounds/${found.id}`)
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <ModalBox :open="open" title="Open a review round" @close="$emit('close')">
    <form class="mt-4 space-y-4" @submit.prevent="start">
      <label class="block font-semibold">Name <input v-model="form.name" required class="field mt-1 font-normal" placeholder="Autumn review of sensitive accounts" /></label>
      <label class="block font-semibold">
        Which grants
        <input v-model.lazy="form.scope" class="field mt-1 font-mono text-sm font-normal" placeholder="account.sensitivity ge 3" />
      </label>
      <p class="text-soft" role="status">
        <template v-if="matching.error.value">{{ matching.error.value.message }}</template>
        <template v-else-if="matching.data.value">{{ counted(matching.data.value.count ?? 0, 'live grant') }} will be in it.</template>
      </p>
      <div class="grid gap-4 sm:grid-cols-2">
        <Listbox v-model="reviewer" as="div" class="relative" by="id">
          <span class="font-semibold" aria-hidden="true">Who decides</span>
          <ListboxButton class="field mt-1 text-left"><span class="sr-only">Who decides: </span>{{ reviewer.name }}</ListboxButton>
          <ListboxOptions class="absolute z-10 mt-1 max-h-56 w-full overflow-y-auto rounded-lg border border-line bg-card p-1 shadow-lg outline-none">
            <ListboxOption v-for="choice in choices" :key="choice.id" v-slot="{ active, selected }" :value="choice">
              <span class="block rounded-md px-3 py-1.5" :class="[active ? 'bg-sunk' : '', selected ? 'font-semibold' : '']">{{ choice.name }}</span>
            </ListboxOption>
          </ListboxOptions>
        </Listbox>
        <label class="block font-semibold">Days to decide <input v-model.number="form.days" type="number" min="1" max="365" class="field mt-1 font-normal" /></label>
      </div>
      <fieldset>
        <legend class="font-semibold">What is decided happens</legend>
        <label class="mr-5"><input v-model="form.acts" type="radio" value="when_decided" class="accent-moss" /> at once</label>
        <label><input v-model="form.acts" type="radio" value="at_close" class="accent-moss" /> when the round closes</label>
      </fieldset>
      <ProblemNote :error="error" />
      <div class="flex justify-end gap-2">
        <button type="button" class="button" @click="$emit('close')">Not now</button>
        <button class="button-main">Open the round</button>
      </div>
    </form>
  </ModalBox>
</template>
