<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { Path } from '@/service/types'
import { saveFile } from '@/records/files'
import { day, untilWords } from '@/frame/words'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import EraseDialog from './EraseDialog.vue'
import HistoryBox from '@/journal/HistoryBox.vue'
import MoveDialog from './MoveDialog.vue'
import PageHead from '@/frame/PageHead.vue'
import PathList from '@/access/PathList.vue'
import PathPicture from '@/access/PathPicture.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import StateNote from '@/frame/StateNote.vue'
import MergeDialog from '@/records/MergeDialog.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({
  key: () => ['person', props.id],
  query: () => get(`/people/${props.id}`),
})
const router = useRouter()
const isEditing = ref(false)
const isMerging = ref(false)
const isMoving = ref(false)
const isErasing = ref(false)
const failed = ref<unknown>(null)

const said = ref('')
async function invite(): Promise<void> {
  failed.value = null
  try {
    const found = await proving(() => send('POST', '/invitations', { person: props.id, role: 'member' }))
    said.value = gettext('%{person} is invited; a link is on its way to %{address}.', { person: found.person.name, address: found.address })
    void refetch()
  } catch (problem) {
    failed.value = problem
  }
}

/** All that is held about them, as a file to give them. */
async function takeData(): Promise<void> {
  failed.value = null
  try {
    saveFile(`held-about-${data.value?.name ?? 'person'}.json`, await send('POST', `/people/${props.id}/held-data`))
  } catch (problem) {
    failed.value = problem
  }
}
const isChanging = ref(false)
const ending = ref<Path | null>(null)
const canEnd = computed(() => Boolean(me.value?.administrator || (me.value?.owner && props.id !== me.value.person.id)))
const about = computed(() => {
  const found = data.value
  if (!found) return ''
  const standing = found.standing === 'current' ? '' : `, ${found.standing} ${day(found.leaves_on)}`
  const known = found.recognised ? '' : ` ${gettext('Met only in a system; nobody has said who this is.')}`
  return `${[found.job, found.address].filter(Boolean).join(', ')} ${found.inside ? gettext('(inside') : gettext('(outside')}${standing})${known}`
})
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <PageHead :title="data.name" :about="about">
      <template v-if="me?.administrator">
        <button class="button" @click="isEditing = true">{{ gettext('Edit') }}</button>
        <button class="button" @click="isMerging = true">{{ gettext('Merge…') }}</button>
        <button class="button" @click="isMoving = true">{{ gettext('Moves…') }}</button>
        <button v-if="data.standing !== 'left' && !data.signs_in" class="button" @click="invite">{{ gettext('Invite to sign in') }}</button>
        <button class="button" @click="takeData">{{ gettext('Personal data') }}</button>
        <button v-if="data.standing === 'left'" class="button-end" @click="isErasing = true">{{ gettext('Erase…') }}</button>
      </template>
      <RouterLink v-if="me?.administrator && data.recognised && id !== me.person.id" :to="`/people/${id}/leaving`" class="button">{{ data.standing === 'left' ? gettext('How far their leaving has come') : gettext('Let them leave…') }}</RouterLink>
      <button v-if="canEnd && data.grants" class="button" @click="isChanging = true">{{ gettext('Change all their grants…') }}</button>
    </PageHead>
    <p v-if="said" role="status" class="mb-3 rounded-md border-l-4 border-moss bg-sky-wash px-3 py-2">{{ said }}</p>
    <ProblemNote :error="failed" class="mb-3" />
    <p v-if="data.teams.length" class="mb-4">
      <span class="text-soft">{{ `${gettext('Belongs to')} ` }}</span>
      <span v-for="team in data.teams" :key="team.id" class="mr-2"><RouterLink :to="`/teams/${team.id}`" class="link">{{ team.name }}</RouterLink> <span class="text-sm text-soft">({{ untilWords(team) }})</span></span>
    </p>
    <h2 class="mb-2 text-xl">
      {{ gettext('Everything that they can reach') }}
      <span class="ml-2 font-sans text-base font-normal text-soft">{{ ngettext('%{n} account', '%{n} accounts', new Set(data.paths.map((p) => p.account.id)).size) }}, {{ ngettext('%{n} session', '%{n} sessions', data.sessions) }}</span>
    </h2>
    <PathList v-if="data.paths.length" :paths="data.paths" by="account" :can-end="canEnd" @end="ending = $event" />
    <StateNote v-else status="success" empty :empty-text="gettext('They can reach nothing.')" />
    <PathPicture v-if="data.paths.length > 1" :paths="data.paths" :person="data.name" class="mt-5" />
    <HistoryBox v-if="me?.administrator || me?.auditor" :filter="`subject.id eq &quot;${id}&quot; or actor.id eq &quot;${id}&quot;`" :of="data.name" />
    <ChangeDialog :open="isChanging" :filter="`holder.id eq &quot;${id}&quot; and state ne &quot;ended&quot;`" :title="gettext('Change all that %{data} holds', { data: data.name })" @close="isChanging = false" @done="refetch()" />
    <RecordDialog :open="isEditing" kind="people" :id="id" @close="isEditing = false" @done="refetch()" @gone="router.push('/people')" />
    <EraseDialog :open="isErasing" :id="id" :name="data.name" @close="isErasing = false" @done="refetch()" />
    <MoveDialog :open="isMoving" :person="data" @close="isMoving = false" />
    <MergeDialog :open="isMerging" kind="people" :id="id" :name="data.name" @close="isMerging = false" @done="refetch()" />
    <RevokeDialog :open="ending !== null" :grants="ending?.grant_id ? [ending.grant_id] : []" @close="ending = null" @started="ending = null" />
  </template>
</template>
