<script setup lang="ts">
/** The parts of an account that can be shared alone, with the dialog to add and edit them. */
import { defineAsyncComponent, ref } from 'vue'

import { gettext } from '@/frame/language'
import type { AccountPage } from '@/service/types'

// Loaded when somebody opens it.
const RecordDialog = defineAsyncComponent(() => import('@/records/RecordDialog.vue'))

defineProps<{ account: AccountPage }>()
const emit = defineEmits<{ done: [] }>()
const part = ref<{ kind: 'resources' | 'groups'; id?: string } | null>(null)
</script>

<template>
  <section class="card p-5" aria-labelledby="parts">
    <h2 id="parts" class="mb-1 text-xl">{{ gettext('Parts that can be shared alone') }}</h2>
    <p v-if="!account.parts.length" class="text-soft">{{ gettext('None: whoever has access has all of it. A part is a folder, a schema or a page that can be given alone.') }}</p>
    <ul class="divide-y divide-line">
      <li v-for="one in account.parts" :key="one.id" class="flex flex-wrap items-center gap-x-3 py-1.5">
        <span class="flex-1">{{ one.name }} <span class="text-soft">{{ one.group ? gettext('group of %{resources}', { resources: one.resources }) : one.kind }}</span><span v-if="one.public" class="ml-1.5 rounded-sm bg-rust-wash px-1.5 py-px text-xs font-semibold text-rust">{{ gettext('public') }}</span></span>
        <span class="text-soft">{{ gettext('shared by %{holders}', { holders: one.holders }) }}</span>
        <button v-if="account.answers_for" class="link" @click="part = { kind: one.group ? 'groups' : 'resources', id: one.id }">{{ gettext('Edit') }}<span class="sr-only"> {{ one.name }}</span></button>
      </li>
    </ul>
    <p v-if="account.answers_for" class="mt-2 flex gap-2"><button class="button" @click="part = { kind: 'resources' }">{{ gettext('Add a part') }}</button><button v-if="account.parts.length" class="button" @click="part = { kind: 'groups' }">{{ gettext('Add a group') }}</button></p>
    <RecordDialog v-if="part" open :kind="part.kind" :id="part.id" :start="{ account: account.id }" :account="account.id" @close="part = null" @done="emit('done')" @gone="emit('done')" />
  </section>
</template>
