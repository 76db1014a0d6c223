<script setup lang="ts">
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'

import { CallFailed, get, send } from '@/service/api'
import { switchOrganisation } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { MyOrganisation } from '@/service/types'
import { counted } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['me', 'organisations'], query: () => get('/me/organisations') })
const failed = ref<unknown>(null)
const asked = ref<MyOrganisation | null>(null)
const code = ref('')
const wish = reactive({ organisation: '', address: '', password: '', code: '' })
const said = ref('')

async function go(row: MyOrganisation): Promise<void> {
  failed.value = null
  try {
    await switchOrganisation(row.sign_in, code.value)
  } catch (problem) {
    if (problem instanceof CallFailed && problem.problem.type?.endsWith(':factor-needed') && asked.value === null) asked.value = row
    else failed.value = problem
  }
  code.value = ''
}
async function link(): Promise<void> {
  failed.value = null
  try {
    await proving(() => send('POST', '/me/organisations', wish))
    said.value = 'Linked. You can switch to it from here.'
    Object.assign(wish, { organisation: '', address: '', password: '', code: '' })
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
async function unlink(row: MyOrganisation): Promise<void> {
  failed.value = null
  try {
    await send('DELETE', `/me/organisations/${row.sign_in}`)
    said.value = `Your sign-in at ${row.organisation.name} stays as it is, and belongs to this one no more.`
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <PageHead title="My organisations" about="Where you have a sign-in, and what you may do there. What you do at one is kept there." />
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote v-if="!asked" :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <ul v-if="data" class="card mb-6 divide-y divide-line" data-test="organisations">
    <li v-for="row in data.organisations" :key="row.sign_in" class="flex flex-wrap items-center gap-x-4 gap-y-2 px-5 py-3">
      <div class="min-w-56 flex-1">
        <p class="font-medium">{{ row.organisation.name }} <span v-if="row.is_current" class="font-normal text-soft">(you are here)</span></p>
        <p class="text-sm text-soft">as {{ row.person }}, {{ row.role }}{{ row.as_partner ? ', of its partner' : '' }}; {{ row.is_closed ? 'closed' : `reaches ${counted(row.accounts, 'account')}` }}{{ row.levels.length ? `: ${row.levels.join(', ')}` : '' }}</p>
      </div>
      <template v-if="!row.is_current">
        <button class="button-main" :disabled="row.is_closed" @click="go(row)">Switch<span class="sr-only"> to {{ row.organisation.name }}</span></button>
        <button v-if="!row.as_partner" class="button" @click="unlink(row)">Unlink<span class="sr-only"> {{ row.organisation.name }}</span></button>
      </template>
    </li>
  </ul>
  <p v-if="data?.more" class="mb-6 text-soft">{{ data.more }} further ones are not shown.</p>
  <form class="card max-w-xl space-y-3 p-5" @submit.prevent="link">
    <h2 class="text-xl">Link another sign-in of mine</h2>
    <p class="text-soft">You prove that it is yours by what you sign in with there.</p>
    <label class="block font-semibold">Organisation <input v-model="wish.organisation" required class="field mt-1 font-normal" placeholder="its short name" /></label>
    <label class="block font-semibold">Address there <input v-model="wish.address" type="email" required autocomplete="off" class="field mt-1 font-normal" /></label>
    <label class="block font-semibold">Password there <input v-model="wish.password" type="password" required autocomplete="off" class="field mt-1 font-normal" /></label>
    <label class="block font-semibold"><span class="block">Code <span class="font-normal text-soft">(with a second factor there)</span></span> <input v-model="wish.code" inputmode="numeric" autocomplete="off" class="field mt-1 max-w-40 font-normal" /></label>
    <button class="button-main">Link it</button>
  </form>
  <ModalBox :open="asked !== null" :title="`Switch to ${asked?.organisation.name ?? ''}`" @close="asked = null">
    <form class="mt-3 space-y-4" @submit.prevent="go(asked!)">
      <p>You have a second factor there.</p>
      <label class="block font-semibold">The code that it shows now <input v-model="code" inputmode="numeric" autocomplete="one-time-code" required class="field mt-1 max-w-40 font-normal" /></label>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="asked = null">Stay here</button><button class="button-main">Switch</button></div>
    </form>
  </ModalBox>
</template>
