<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { get, send } from '@/service/api'
import { me, useSwitch } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { Mine, OpenOffer } from '@/service/types'
import { ago, day, ends, idleWords } from '@/frame/words'
import AskDialog from '@/requests/AskDialog.vue'
import LongerDialog from '@/grants/LongerDialog.vue'
import ModalBox from '@/frame/ModalBox.vue'
import OfferCard from '@/offers/OfferCard.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import QuestionList from '@/reviews/QuestionList.vue'
import ReachMark from '@/frame/ReachMark.vue'
import ReviewerBox from '@/reviews/ReviewerBox.vue'
import StateNote from '@/frame/StateNote.vue'

const route = useRoute()
const router = useRouter()
const { enter } = useSwitch()
const { data, status, error, refetch } = useQuery({ key: ['mine'], query: () => get('/mine') })
const failed = ref<unknown>(null)
const note = ref('')
const isAsking = ref(false)
const givingUp = ref<Mine['reach'][number] | null>(null)
const reason = ref('')
const factor = ref<{ secret: string; address: string } | null>(null)
const code = ref('')
type Longer = InstanceType<typeof LongerDialog>['$props']['grant']
const longer = ref<Longer>(null)
const asGrant = (path: Mine['reach'][number]): Longer => ({ id: path.grant_id ?? '', account: path.account, level: path.level, until: path.until, last_day: path.last_day })
// A reminder leads straight to the question.
watch(data, (found) => {
  const path = found?.reach.find((one) => one.own && one.grant_id === route.query.longer)
  if (path) longer.value = asGrant(path)
}, { once: true })

async function attempt(call: () => Promise<unknown>, said = ''): Promise<void> {
  failed.value = null
  note.value = ''
  try {
    await call()
    note.value = said
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}

async function goInto(account: string): Promise<void> {
  await attempt(() => enter(account, () => router.push(`/accounts/${account}`)))
}

const accept = (offer: OpenOffer) => attempt(() => send('POST', `/offers/${offer.id}/accept`, { version: offer.version }), gettext('You have accepted %{account}. What you have is below.', { account: offer.account.name }))
const decline = (offer: OpenOffer, unknown: boolean) => attempt(() => send('POST', `/offers/${offer.id}/decline`, { version: offer.version, unknown_sender: unknown }), gettext('You have declined.'))
const giveUp = () => attempt(async () => {
  await send('POST', `/grants/${givingUp.value?.grant_id}/give-up`, { reason: reason.value })
  givingUp.value = null
}, gettext('It is being ended.'))
const setUp = () => attempt(async () => { factor.value = await proving(() => send('POST', '/me/factor')) })
const confirmFactor = () => attempt(async () => {
  await send('PUT', '/me/factor', { code: code.value })
  factor.value = null
  code.value = ''
}, gettext('From now on a code is asked for at every sign-in.'))
</script>

<template>
  <PageHead docs="how-to/ask-for-access" :title="gettext('My access')" :words="['grant','delegate','request','reach']" :about="gettext('What you can reach, and who can reach what is yours.')">
    <button class="button-main" @click="isAsking = true">{{ gettext('Ask for access') }}</button>
  </PageHead>
  <p v-if="note || route.query.accepted" class="mb-4 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2" role="status">{{ note || gettext('Accepted. What you have is below; switch into an account to act there.') }}</p>
  <ProblemNote :error="failed" />
  <QuestionList />
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <section v-for="offer in data.offers" :key="offer.id" class="card mb-5 border-l-4 border-l-brass p-5" :aria-label="gettext('Offer of %{account}', { account: offer.account.name })">
      <OfferCard :offer="offer" />
      <p v-for="lack in offer.lacking" :key="lack" class="mt-3 rounded-md border-l-4 border-brass bg-brass-wash px-3 py-2">{{ gettext('Before you can accept: %{lack}. You can set that up below.', { lack: lack.toLowerCase() }) }}</p>
      <p v-if="offer.kind === 'ownership'" class="mt-3 text-soft">{{ gettext('Ownership is taken over by the link in the mail that was sent to you.') }}</p>
      <div class="mt-4 flex flex-wrap gap-2">
        <button v-if="offer.kind === 'access'" class="button-main" :disabled="offer.lacking.length > 0" @click="accept(offer)">{{ gettext('Accept') }}<span class="sr-only"> {{ offer.account.name }}</span></button>
        <button class="button" @click="decline(offer, false)">{{ gettext('Decline') }}</button>
        <button class="button" @click="decline(offer, true)">{{ gettext('I don’t know the sender') }}</button>
      </div>
    </section>
    <div class="grid items-start gap-5 lg:grid-cols-[3fr_2fr]">
      <section aria-labelledby="reach">
        <h2 id="reach" class="mb-2 text-xl">{{ gettext('What you can reach') }}</h2>
        <p v-if="!data.reach.length" class="card border-dashed p-8 text-center text-soft">{{ gettext('Nothing yet. Ask for access, or wait for an offer.') }}</p>
        <ul v-else class="card divide-y divide-line">
          <li v-for="path in data.reach" :key="path.account.id + path.words" class="flex flex-wrap items-start gap-x-4 gap-y-1 px-5 py-3">
            <div class="min-w-0 flex-1 basis-64">
              <p class="font-medium">{{ path.account.name }} <span v-if="path.part" class="font-normal text-soft">{{ gettext('only %{part}', { part: path.part }) }}</span></p>
              <p><span v-if="path.owed === 'give'" class="mr-1 rounded-sm bg-brass-wash px-1.5 py-px text-xs font-semibold text-brass" :title="gettext('Accepted; its system does not have it yet.')">{{ gettext('not given yet') }}</span>{{ path.level }}, {{ ends(path) }}<template v-if="path.hours">; {{ path.hours }}</template></p>
              <p class="text-sm text-soft">{{ gettext('%{hops}. Used: %{last_used_at}', { hops: path.hops.length > 1 ? path.words : gettext('Given by %{given_by}', { given_by: path.given_by ?? gettext('nobody known') }), last_used_at: ago(path.last_used_at) }) }}</p>
            </div>
            <ReachMark :reach="path.reach" />
            <div class="flex gap-1">
              <button class="button" :disabled="me?.inside?.account.id === path.account.id" @click="goInto(path.account.id)">{{ gettext('Switch in') }}<span class="sr-only">{{ ` ${gettext('to %{account} as %{level}', { account: path.account.name, level: path.level })}` }}</span></button>
              <button v-if="path.own && !path.revoking && path.until" class="button" @click="longer = asGrant(path)">{{ gettext('More time') }}<span class="sr-only">{{ ` ${gettext('for %{level} of %{account}', { level: path.level, account: path.account.name })}` }}</span></button>
              <button v-if="path.own && !path.revoking" class="button" @click="givingUp = path">{{ gettext('Give up') }}<span class="sr-only">{{ ` ${gettext('%{level} of %{account}', { level: path.level, account: path.account.name })}` }}</span></button>
            </div>
          </li>
        </ul>
        <template v-if="data.not_in_force.length">
          <h3 class="mt-5 mb-2 text-lg">{{ gettext('Not in force') }}</h3>
          <ul class="card divide-y divide-line" data-test="not-in-force">
            <li v-for="grant in data.not_in_force" :key="grant.id" class="px-5 py-2.5">
              <p class="font-medium">{{ grant.account.name }} <span v-if="grant.part" class="font-normal text-soft">{{ gettext('only %{part}', { part: grant.part }) }}</span></p>
              <p>{{ grant.level }}, {{ ends(grant) }} <span class="text-soft">· {{ idleWords(grant) }}</span></p>
            </li>
          </ul>
        </template>
      </section>
      <div class="space-y-5">
        <section aria-labelledby="mine">
          <h2 id="mine" class="mb-2 text-xl">{{ gettext('Who can reach your accounts') }}</h2>
          <p v-if="!data.mine.length" class="card border-dashed p-6 text-center text-soft">{{ gettext('No account is yours.') }}</p>
          <details v-for="own in data.mine" :key="own.account.id" class="card mb-2 px-5 py-3">
            <summary class="cursor-pointer font-medium">{{ own.account.name }} <span class="font-normal text-soft">{{ ngettext('%{n} other', '%{n} others', own.holders.length) }}</span></summary>
            <ul class="mt-2 divide-y divide-line">
              <li v-for="holder in own.holders" :key="holder.id" class="flex flex-wrap gap-x-3 py-1.5">
                <span class="flex-1">{{ holder.name }} <span class="block text-sm text-soft">{{ holder.levels.join(', ') }}, {{ ends(holder) }}</span></span>
                <ReachMark :reach="holder.reach" />
              </li>
            </ul>
            <RouterLink :to="`/accounts/${own.account.id}`" class="link">{{ gettext('Open %{account}', { account: own.account.name }) }}</RouterLink>
          </details>
        </section>
        <section class="card space-y-3 p-5" aria-labelledby="how">
          <h2 id="how" class="text-xl">{{ gettext('My settings') }}</h2>
          <p>
            {{ data.settings.address ?? gettext('No address') }}:
            <template v-if="data.settings.address_confirmed_at">{{ gettext('confirmed on %{address_confirmed_at}.', { address_confirmed_at: day(data.settings.address_confirmed_at) }) }}</template>
            <template v-else>{{ gettext('not confirmed.') }} <button class="link" @click="attempt(() => send('POST', '/me/address'), gettext('A link is on its way to your address.'))">{{ gettext('Send me a link') }}</button></template>
          </p>
          <p v-if="data.settings.second_factor">{{ gettext('A second factor is set up.') }} <button class="link" @click="attempt(() => proving(() => send('DELETE', '/me/factor')))">{{ gettext('Remove it') }}</button></p>
          <p v-else-if="!factor">{{ gettext('No second factor.') }} <button class="link" @click="setUp">{{ gettext('Set one up') }}</button></p>
          <form v-if="factor" class="space-y-2 rounded-md bg-sunk p-3" @submit.prevent="confirmFactor">
            <p>{{ gettext('Give this secret to an app that shows codes, or open') }} <a :href="factor.address" class="link">{{ gettext('this address') }}</a> {{ gettext('with it:') }}</p>
            <p class="font-mono break-all">{{ factor.secret }}</p>
            <label class="block font-semibold">{{ gettext('The code that it shows now') }} <input v-model="code" inputmode="numeric" required class="field mt-1 font-normal" /></label>
            <button class="button-main">{{ gettext('Use it from now on') }}</button>
          </form>
          <label class="block"><input type="checkbox" class="accent-moss" :checked="data.settings.refuses_offers" @change="attempt(() => send('PUT', '/me/offers', { refuses: !data?.settings.refuses_offers }))" /> {{ gettext('Nobody may send you offers') }}</label>
        </section>
        <ReviewerBox />
      </div>
    </div>
  </template>
  <ModalBox :open="givingUp !== null" :title="gettext('Give access up')" @close="givingUp = null">
    <form class="mt-3 space-y-4" @submit.prevent="giveUp">
      <p>{{ gettext('Your “%{level}” on %{account} ends, also in the system where it lives. To have it again you would have to ask.', { level: givingUp?.level, account: givingUp?.account.name }) }}</p>
      <label class="block font-semibold">{{ gettext('Why') }} <span class="font-normal text-soft">{{ gettext('(if you like)') }}</span><input v-model="reason" class="field mt-1 font-normal" /></label>
      <div class="flex justify-end gap-2"><button type="button" class="button" @click="givingUp = null">{{ gettext('Cancel') }}</button><button class="button-end">{{ gettext('Give up %{account}', { account: givingUp?.account.name }) }}</button></div>
    </form>
  </ModalBox>
  <LongerDialog :grant="longer" @close="longer = null" @done="note = $event" />
  <AskDialog :open="isAsking" @close="isAsking = false" />
</template>
