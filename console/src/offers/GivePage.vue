<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { CallFailed, get, send } from '@/service/api'
import { proving } from '@/identity/proof'
import { me } from '@/identity/me'
import type { OfferPreview, OfferRow } from '@/service/types'
import { type To } from './recipients'
import BreachList from '@/latches/BreachList.vue'
import PageHead from '@/frame/PageHead.vue'
import PartPicker from '@/accounts/PartPicker.vue'
import RecordPicker from '@/records/RecordPicker.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RecipientPicker from './RecipientPicker.vue'
import RightList from '@/access/RightList.vue'
import { levelsOf, permissionsOf } from '@/grants/queries'
import { accountPage } from '@/accounts/queries'
import DayField from '@/frame/DayField.vue'

const route = useRoute()
const router = useRouter()
const account = ref(String(route.query.account ?? ''))
// With an offer, it is that one which is changed before it is answered.
const changing = ref<OfferRow | null>(null)
const to = ref<To[]>([])
const form = reactive({ levels: [] as string[], permissions: [] as string[], parts: [] as string[], since: '', last_day: '', hours: false, days: [0, 1, 2, 3, 4], begins: '08:00', ends: '18:00', reason: '' })
const ownEnds = reactive<Record<string, string>>({})
const preview = ref<OfferPreview | null>(null)
const error = ref<unknown>(null)
const DAYS = [gettext('Mo'), gettext('Tu'), gettext('We'), gettext('Th'), gettext('Fr'), gettext('Sa'), gettext('Su')]
const DAY_NAMES = [gettext('Monday'), gettext('Tuesday'), gettext('Wednesday'), gettext('Thursday'), gettext('Friday'), gettext('Saturday'), gettext('Sunday')]

const mayGive = computed(() => (me.value?.administrator || me.value?.inside ? undefined : `owner.id eq "${me.value?.person.id ?? ''}"`))
const page = useQuery(accountPage(() => account.value))
const system = computed(() => page.data.value?.system.id ?? '')
const levels = useQuery(levelsOf(() => system.value))
const permissions = useQuery(permissionsOf(() => system.value))
const choice = computed(() => ({
  levels: form.levels,
  permissions: form.permissions.map((key) => ({ key, last_day: ownEnds[key] || null })),
  parts: form.parts,
  since: form.since ? new Date(form.since).toISOString() : null,
  last_day: form.last_day || null,
  hours: form.hours ? { days: form.days, begins: form.begins, ends: form.ends } : null,
}))
const proposal = computed(() => ({ ...choice.value, account: account.value, to: to.value.map((one) => one.body), reason: form.reason }))
async function load(): Promise<void> {
  if (!route.query.offer) return
  const offer = await get(`/offers/${String(route.query.offer)}`)
  changing.value = offer
  account.value = offer.account.id
  to.value = [{ key: offer.person.id, label: offer.person.name, body: { person: offer.person.id } }]
}
void load()

const isReady = computed(() => Boolean(account.value && to.value.length && (form.levels.length || form.permissions.length)))
const isHeld = computed(() => preview.value?.to.some((one) => one.latches.some((b) => b.mode === 'hold')) ?? false)

// While this is true what is shown is not what would be sent.
const isLooking = ref(false)
let asked = 0
async function look(): Promise<void> {
  const mine = ++asked
  isLooking.value = isReady.value
  if (!isReady.value) {
    preview.value = null
    return
  }
  try {
    const seen = await send('POST', '/offers/preview', proposal.value)
    if (mine === asked) {
      preview.value = seen
      error.value = null
    }
  } catch (failed) {
    if (mine === asked) {
      preview.value = null
      error.value = failed
    }
  }
  if (mine === asked) isLooking.value = false
}
watch(proposal, () => void look(), { deep: true })
watch(account, () => {
  form.levels = []
  form.permissions = []
  form.parts = []
})

async function give(): Promise<void> {
  error.value = null
  try {
    if (changing.value) {
      const { id, version } = changing.value
      await proving(() => send('PUT', `/offers/${id}`, choice.value, { 'If-Match': `"${version}"` }))
    } else {
      await proving(() => send('POST', '/offers', { ...proposal.value, fingerprint: preview.value?.fingerprint ?? '' }))
    }
    await router.push('/offers')
  } catch (failed) {
    if (failed instanceof CallFailed && failed.status === 409) await look()
    error.value = failed
  }
}
</script>

<template>
  <PageHead docs="how-to/give-access" :title="changing ? gettext('Change an offer') : gettext('Offer access')" :about="gettext('Just enough, for just long enough. Nothing is sent until you have read the summary.')" />
  <form class="grid items-start gap-5 lg:grid-cols-2" @submit.prevent="give">
    <div class="card space-y-5 p-5">
      <label class="block font-semibold">
        {{ gettext('To which account') }}
        <RecordPicker of="accounts" :label="gettext('To which account')" class="mt-1" required :filter="mayGive" :disabled="changing !== null" :named="page.data.value?.name" :model-value="account || null" @update:model-value="account = $event ?? ''" />
      </label>
      <p v-if="changing">{{ gettext('To') }} <strong>{{ changing.person.name }}</strong>{{ gettext(', who has not answered yet. What you choose here takes the place of what was offered.') }}</p>
      <div v-else>
        <RecipientPicker v-model="to" />
      </div>
      <fieldset v-if="levels.data.value">
        <legend class="font-semibold">{{ gettext('What they may do') }}</legend>
        <label v-for="level in levels.data.value.rows" :key="level.id" class="mt-1 flex items-baseline gap-2">
          <input v-model="form.levels" type="checkbox" :value="level.id" class="accent-moss" />
          <span class="flex-1"><span class="font-medium">{{ level.name }}</span> <span class="text-soft">{{ level.sentence }}</span></span>
          <ReachMark :reach="level.reach" />
        </label>
        <details class="mt-2">
          <summary class="cursor-pointer text-soft hover:text-ink">{{ gettext('Or single permissions') }}</summary>
          <label v-for="right in permissions.data.value?.permissions ?? []" :key="right.key" class="mt-1 flex items-baseline gap-2">
            <input v-model="form.permissions" type="checkbox" :value="right.key" class="accent-moss" />
            <span class="flex-1">{{ right.sentence }}</span>
            <DayField v-if="form.permissions.includes(right.key)" :model-value="ownEnds[right.key] ?? ''" end :aria-label="gettext('Last day of: %{sentence}', { sentence: right.sentence })" class="w-48" @update:model-value="(value) => (ownEnds[right.key] = value ?? '')" />
            <ReachMark :reach="right.reach" />
          </label>
        </details>
      </fieldset>
      <PartPicker v-if="page.data.value" v-model="form.parts" :parts="page.data.value.parts" />
      <div class="grid gap-4 sm:grid-cols-2">
        <label class="block font-semibold">{{ gettext('Begins') }} <span class="font-normal text-soft">{{ gettext('(when they accept)') }}</span><input v-model="form.since" type="datetime-local" class="field mt-1 font-normal" /></label>
        <DayField v-model="form.last_day" end :label="gettext('Last day')" :note="gettext('that day counts')" />
      </div>
      <fieldset>
        <legend class="sr-only">{{ gettext('Hours of the week') }}</legend>
        <label class="font-semibold"><input v-model="form.hours" type="checkbox" class="accent-moss" /> {{ gettext('Only in certain hours of the week') }}</label>
        <div v-if="form.hours" class="mt-2 flex flex-wrap items-center gap-3 rounded-md bg-sunk p-3">
          <label v-for="(day, index) in DAYS" :key="day"><input v-model="form.days" type="checkbox" :value="index" class="accent-moss" :aria-label="DAY_NAMES[index]" /> {{ day }}</label>
          <label>{{ gettext('from') }} <input v-model="form.begins" type="time" class="field inline w-auto" /></label>
          <label>{{ gettext('to') }} <input v-model="form.ends" type="time" class="field inline w-auto" /></label>
        </div>
      </fieldset>
      <label class="block font-semibold">{{ gettext('Why') }} <input v-model="form.reason" class="field mt-1 font-normal" :placeholder="gettext('Warden of the coming season')" /></label>
    </div>
    <section class="card space-y-4 p-5 lg:sticky lg:top-4" aria-labelledby="comes" aria-live="polite">
      <h2 id="comes" class="text-xl">{{ gettext('Summary') }}</h2>
      <p v-if="!preview && !error" class="text-soft">{{ gettext('Choose an account, who it is for and what they may do. The summary appears here.') }}</p>
      <template v-if="preview">
        <p>{{ preview.account.name }}: {{ preview.words }}.</p>
        <article v-for="one in preview.to" :key="one.address" class="space-y-3 border-t border-line pt-3">
          <h3 class="font-sans text-base font-semibold">
            {{ one.holder.name }} <span class="font-normal text-soft">{{ one.address }}, {{ one.inside ? gettext('inside') : gettext('outside') }}<template v-if="one.people !== 1">, {{ ngettext('%{n} person', '%{n} people', one.people) }}</template></span>
          </h3>
          <p v-for="warning in one.warnings" :key="warning" class="rounded-md border-l-4 border-rust bg-rust-wash px-3 py-2"><strong>{{ gettext('Please check:') }}</strong> {{ warning }}</p>
          <p v-if="!one.known" class="text-soft">{{ gettext('Not in the register yet. Is the name right, and the address?') }}</p>
          <RightList :can="one.can" :cannot="one.cannot" :adds="one.adds" />
          <p v-if="one.already.length" class="text-soft">{{ gettext('Has access already: %{already}.', { already: one.already.join('; ') }) }}</p>
          <p v-if="!one.adds.length && one.can.length" class="text-soft">{{ gettext('This adds no right; only the time or the parts differ.') }}</p>
          <BreachList :breaches="one.latches" />
          <p v-if="one.meets.length" class="text-soft">{{ gettext('Meets: %{meets}.', { meets: one.meets.join('; ') }) }}</p>
          <ul class="text-soft"><li v-for="needed in one.prerequisites.filter((p) => !p.met)" :key="needed.key">{{ gettext('Needed before they can accept: %{sentence}', { sentence: needed.sentence.toLowerCase() }) }}</li></ul>
        </article>
      </template>
      <ProblemNote :error="error" />
      <button class="button-main w-full" :disabled="!preview || isHeld || isLooking" data-test="send">{{ changing ? gettext('Change the offer') : preview ? gettext('Send %{count}', { count: ngettext('%{n} offer', '%{n} offers', preview.offers) }) : gettext('Send') }}</button>
    </section>
  </form>
</template>
