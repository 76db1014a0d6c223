<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { get, getAs } from '@/service/api'
import type { Rows } from '@/service/types'
import PageHead from '@/frame/PageHead.vue'
import MailBox from '@/settings/MailBox.vue'
import ConnectDialog from '@/systems/ConnectDialog.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const router = useRouter()
const isConnecting = ref(false)
const isAdding = ref<'people' | 'accounts' | null>(null)
const count = (list: string) => useQuery({ key: ['begin', list], query: () => getAs<Rows<unknown>>(`/${list}`, { limit: 1, count: true }) })
const systems = count('systems')
const accounts = count('accounts')
const people = count('people')
const grants = count('grants')
const rounds = count('rounds')
const own = useQuery({ key: ['me', 'sign-in'], query: () => get('/me/sign-in') })
const has = (found: ReturnType<typeof count>, least = 1) => (found.data.value?.count ?? 0) >= least
const steps = computed(() => [
  { done: has(systems), what: gettext('Say where something shared is'), about: gettext('A system that Open Latch reads and changes itself, or one that people look after by hand.') },
  { done: has(accounts), what: gettext('Add an account'), about: gettext('A mailbox, a database, a sheet: what several people share. A connected system brings its own.') },
  { done: has(people, 2), what: gettext('Add the people'), about: gettext('One by one, or from a file.') },
  { done: has(grants), what: gettext('Record who has access'), about: gettext('What is there already, without asking anybody.') },
  { done: has(rounds), what: gettext('Open the first review'), about: gettext('Somebody looks at each line and decides.') },
])
</script>

<template>
  <PageHead docs="how-to/move-in" :title="gettext('What do you share?')" :about="gettext('Five steps from an empty register to the first review. Leave any of them for later.')" />
  <div class="grid items-start gap-5 lg:grid-cols-[3fr_2fr]">
    <ol class="space-y-3">
      <li v-for="(step, place) in steps" :key="step.what" class="card flex flex-wrap items-center gap-x-4 gap-y-2 p-5">
        <span class="grid size-8 place-items-center rounded-full border font-semibold" :class="step.done ? 'border-moss bg-moss text-moss-ink' : 'border-line'" aria-hidden="true">{{ step.done ? '✓' : place + 1 }}</span>
        <div class="min-w-48 flex-1"><h2 class="text-lg">{{ step.what }}<span v-if="step.done" class="sr-only">{{ ` ${gettext('(done)')}` }}</span></h2><p class="text-soft">{{ step.about }}</p></div>
        <button v-if="place === 0" class="button-main" @click="isConnecting = true">{{ gettext('Connect or name a system') }}</button>
        <button v-else-if="place === 1" class="button-main" @click="isAdding = 'accounts'">{{ gettext('Add an account') }}</button>
        <span v-else-if="place === 2" class="flex gap-2"><button class="button-main" @click="isAdding = 'people'">{{ gettext('Add a person') }}</button><RouterLink to="/systems" class="button">{{ gettext('From a file') }}</RouterLink></span>
        <RouterLink v-else-if="place === 3" to="/grants" class="button-main">{{ gettext('Record access') }}</RouterLink>
        <RouterLink v-else to="/rounds" class="button-main">{{ gettext('Open a review') }}</RouterLink>
      </li>
    </ol>
    <div class="space-y-5">
      <section v-if="own.data.value && !own.data.value.second_factor_since" class="card p-5"><h2 class="text-xl">{{ gettext('Your second factor') }}</h2><p class="text-soft">{{ gettext('You can end anybody’s access here. Guard your own sign-in with more than a password.') }}</p><RouterLink to="/me" class="button mt-2">{{ gettext('Set one up') }}</RouterLink></section>
      <MailBox />
      <section class="card p-5"><h2 class="text-xl">{{ gettext('Others who sign in') }}</h2><p class="text-soft">{{ gettext('A second administrator, and those who review.') }}</p><RouterLink to="/sign-ins" class="button mt-2">{{ gettext('Invite somebody') }}</RouterLink></section>
    </div>
  </div>
  <ConnectDialog :open="isConnecting" @close="isConnecting = false" @done="systems.refetch()" />
  <RecordDialog :open="isAdding !== null" :kind="isAdding ?? 'people'" @close="isAdding = null" @done="isAdding === 'accounts' ? router.push(`/accounts/${$event.id}`) : people.refetch()" />
</template>
