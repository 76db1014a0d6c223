<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { reactive, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { PartnerLink } from '@/service/types'
import { moment } from '@/frame/words'
import RecordPicker from '@/records/RecordPicker.vue'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['partners'], query: () => get('/partners') })
const signIns = useQuery({ key: ['sign-ins'], query: () => get('/sign-ins'), enabled: () => !!me.value?.administrator })
const failed = ref<unknown>(null)
const said = ref('')
const wish = reactive({ client: '', words: '', people: [] as string[] })
const isOffering = ref(false)
const acting = ref<PartnerLink | null>(null)
const accepting = ref<PartnerLink | null>(null)
const team = ref('')
const ending = ref<PartnerLink | null>(null)
const ends = ref<{ does: string[]; fingerprint: string } | null>(null)
const reason = ref('')
const STATES = { offered: gettext('offered, not answered'), linked: 'linked', declined: gettext('declined'), ended: gettext('ended') }

async function run(call: () => Promise<unknown>, done: string): Promise<void> {
  failed.value = null
  said.value = ''
  try {
    await proving(call)
    said.value = done
    isOffering.value = false
    acting.value = accepting.value = ending.value = null
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
const offer = () => run(() => send('POST', '/partners', wish), gettext('Offered. If there is a client of that name, its administrators are told.'))
const setPeople = () => run(() => send('PUT', `/partners/${acting.value!.id}/people`, { people: wish.people }), gettext('Saved. It takes effect at the client within a minute.'))
const accept = () => run(() => send('POST', `/partners/${accepting.value!.id}/answer`, { accepts: true, team: team.value || null }), gettext('Linked. From now on they can use what their team holds here.'))
const end = () => run(() => send('POST', `/partners/${ending.value!.id}/end`, { reason: reason.value, fingerprint: ends.value?.fingerprint ?? '' }), gettext('The link has ended.'))

function choosePeople(row: PartnerLink): void {
  failed.value = null
  wish.people = row.people.flatMap((one) => (one.id ? [one.id] : []))
  acting.value = row
}
async function askEnd(row: PartnerLink): Promise<void> {
  failed.value = ends.value = null
  reason.value = ''
  ending.value = row
  try {
    ends.value = await send('POST', `/partners/${row.id}/end/preview`)
  } catch (problem) {
    failed.value = problem
  }
}
function begin(): void {
  failed.value = null
  Object.assign(wish, { client: '', words: '', people: [] })
  isOffering.value = true
}
</script>

<template>
  <PageHead docs="how-to/partners" :title="gettext('Partners')" :about="gettext('Organisations on this server that act for one another. They share nothing beyond what a link says.')">
    <button v-if="me?.administrator" class="button-main" @click="begin">{{ gettext('Offer to act for a client') }}</button>
  </PageHead>
  <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
  <ProblemNote v-if="!isOffering && !acting && !accepting && !ending" :error="failed" class="mb-3" />
  <StateNote :status="status" :error="error" :empty="!data?.links.length" :empty-text="gettext('No links yet. A partner offers to act for its client, and the client accepts the offer here.')" @retry="refetch" />
  <ul v-if="data?.links.length" class="space-y-4" data-test="partners">
    <li v-for="row in data.links" :key="row.id" class="card p-5">
      <div class="flex flex-wrap items-start gap-x-4 gap-y-2">
        <div class="min-w-56 flex-1">
          <h2 class="text-xl">{{ row.other }}</h2>
          <p class="text-soft">{{ gettext('%{we_are}: %{states}%{ended_at}; offered by %{offered_by}', { we_are: row.we_are === 'client' ? gettext('acts for us') : gettext('we act for it'), states: STATES[row.state], ended_at: row.ended_at ? ` ${gettext('%{ended_at} by %{ended_by}', { ended_at: moment(row.ended_at), ended_by: row.ended_by })}` : row.accepted_at ? ` ${gettext('since %{accepted_at}', { accepted_at: moment(row.accepted_at) })}` : '', offered_by: row.offered_by }) }}</p>
          <p v-if="row.words" class="mt-1">“{{ row.words }}”</p>
          <p v-if="row.team" class="mt-1">{{ gettext('They hold what') }} <RouterLink :to="`/teams/${row.team.id}`" class="link">{{ row.team.name }}</RouterLink> {{ gettext('holds.') }}</p>
        </div>
        <template v-if="me?.administrator">
          <template v-if="row.state === 'offered' && row.we_are === 'client'">
            <button class="button-main" @click="failed = null; team = ''; accepting = row">{{ gettext('Accept') }}<span class="sr-only"> {{ row.other }}</span></button>
            <button class="button" @click="run(() => send('POST', `/partners/${row.id}/answer`, { accepts: false }), gettext('Declined.'))">{{ gettext('Decline') }}<span class="sr-only"> {{ row.other }}</span></button>
          </template>
          <button v-if="row.we_are === 'partner' && row.state !== 'ended'" class="button" @click="choosePeople(row)">{{ gettext('Choose who acts') }}<span class="sr-only">{{ ` ${gettext('for %{other}', { other: row.other })}` }}</span></button>
          <button v-if="row.state === 'linked' || (row.state !== 'ended' && row.we_are === 'partner')" class="button-end" @click="askEnd(row)">{{ gettext('End') }}<span class="sr-only">{{ ` ${gettext('the link with %{other}', { other: row.other })}` }}</span></button>
        </template>
      </div>
      <ul v-if="row.people.length" class="mt-3 divide-y divide-line">
        <li v-for="one in row.people" :key="one.address" class="flex flex-wrap items-center gap-x-3 gap-y-1 py-1.5">
          <span class="min-w-48 flex-1"><component :is="row.we_are === 'client' && one.id ? RouterLink : 'span'" :to="`/people/${one.id}`" :class="row.we_are === 'client' && one.id ? 'link' : ''">{{ one.name }}</component> <span class="text-sm text-soft">{{ one.address }}</span></span>
          <template v-if="row.we_are === 'client' && row.state === 'linked'">
            <span v-if="one.is_in" class="text-soft">{{ one.last_seen_at ? gettext('last here %{last_seen_at}; %{count} into accounts', { last_seen_at: moment(one.last_seen_at), count: ngettext('%{n} time', '%{n} times', one.visits) }) : gettext('not seen here') }}</span>
            <template v-else>
              <span class="text-brass">{{ one.is_held ? gettext('not let in: a latch holds. Mend that, then ask the partner to name them again') : one.here ? gettext('not let in: is this your %{here}, who has the same address?', { here: one.here.name }) : gettext('not let in: somebody here signs in with this address') }}</span>
              <button v-if="one.here && me?.administrator" class="button" @click="run(() => send('POST', `/partners/${row.id}/same`, { person: one.here!.id }), gettext('%{one} is let in.', { one: one.name }))">{{ gettext('Same person: let them in') }}<span class="sr-only">, {{ one.name }}</span></button>
            </template>
          </template>
        </li>
      </ul>
      <p v-else class="mt-2 text-soft">{{ gettext('Nobody is named on it.') }}</p>
    </li>
  </ul>
  <ModalBox :open="isOffering || acting !== null" :title="acting ? gettext('Who acts for %{other}', { other: acting.other }) : gettext('Offer to act for a client')" @close="isOffering = false; acting = null">
    <form class="mt-3 space-y-4" @submit.prevent="acting ? setPeople() : offer()">
      <template v-if="!acting">
        <label class="block font-semibold">{{ gettext('The client’s short name') }} <input v-model="wish.client" required class="field mt-1 font-normal" /><span class="font-normal text-soft">{{ gettext('Ask its administrators for it. Only their answer tells you whether the client exists.') }}</span></label>
        <label class="block font-semibold">{{ gettext('Message') }} <input v-model="wish.words" class="field mt-1 font-normal" /></label>
      </template>
      <fieldset>
        <legend class="font-semibold">{{ gettext('Which of our people act for it') }}</legend>
        <label v-for="one in signIns.data.value?.rows" :key="one.id" class="mt-1 flex items-center gap-2"><input v-model="wish.people" type="checkbox" :value="one.person.id" :disabled="one.standing === 'left'" class="accent-moss" /> {{ one.person.name }} <span class="text-soft">{{ one.address }}</span></label>
      </fieldset>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="isOffering = false; acting = null">{{ gettext('Cancel') }}</button><button class="button-main">{{ acting ? gettext('Save') : gettext('Offer it') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="accepting !== null" :title="gettext('Let %{other} act for us', { other: accepting?.other ?? '' })" @close="accepting = null">
    <form class="mt-3 space-y-4" @submit.prevent="accept">
      <p>{{ gettext('%{people}: they sign in at their own organisation, and see and do here only what their team allows. You see which of them have been here. The partner chooses the people; you can end the link at any time.', { people: accepting?.people.map((one) => one.name).join(', ') || gettext('Nobody yet') }) }}</p>
      <label class="block font-semibold">{{ gettext('Their team') }} <RecordPicker of="teams" :label="gettext('Their team')" class="mt-1" :placeholder="gettext('a new team that holds nothing yet')" :model-value="team || null" @update:model-value="team = $event ?? ''" /></label>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="accepting = null">{{ gettext('Cancel') }}</button><button class="button-main">{{ gettext('Let them act for us') }}</button></div>
    </form>
  </ModalBox>
  <ModalBox :open="ending !== null" :title="gettext('End the link with %{other}', { other: ending?.other ?? '' })" @close="ending = null">
    <form class="mt-3 space-y-4" @submit.prevent="end">
      <ul class="list-disc space-y-1 pl-5"><li v-for="line in ends?.does" :key="line">{{ line }}</li></ul>
      <label class="block font-semibold">{{ gettext('Why') }} <input v-model="reason" class="field mt-1 font-normal" /></label>
      <ProblemNote :error="failed" />
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="ending = null">{{ gettext('Cancel') }}</button><button class="button-end" :disabled="!ends">{{ gettext('End the link') }}</button></div>
    </form>
  </ModalBox>
</template>
