<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { get, send } from '@/service/api'
import { me } from '@/identity/me'
import { proving } from '@/identity/proof'
import type { TeamPage } from '@/service/types'
import { moment, untilWords } from '@/frame/words'
import ModalBox from '@/frame/ModalBox.vue'
import PageHead from '@/frame/PageHead.vue'
import ProblemNote from '@/frame/ProblemNote.vue'
import StateNote from '@/frame/StateNote.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const props = defineProps<{ id: string }>()
const router = useRouter()
const { data, status, error, refetch } = useQuery({ key: () => ['team', props.id], query: () => get(`/teams/${props.id}`) })
const isEditing = ref(false)
const isAdding = ref(false)
const changing = ref<string | null>(null)
const going = ref<TeamPage['members'][number] | null>(null)
const failed = ref<unknown>(null)
const about = computed(() => data.value && [data.value.partner ? gettext('A partner organisation.') : '', data.value.purpose, data.value.archived_at ? gettext('Archived.') : ''].filter(Boolean).join(' '))

async function takeOut(membership: string): Promise<void> {
  failed.value = null
  try {
    await proving(() => send('DELETE', `/memberships/${membership}`))
  } catch (problem) {
    failed.value = problem
  }
  void refetch()
}
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <PageHead :title="data.name" :about="about || ''">
      <template v-if="me?.administrator">
        <button class="button" @click="isEditing = true">{{ gettext('Edit') }}</button>
        <button class="button-main" @click="isAdding = true">{{ gettext('Add a member') }}</button>
      </template>
    </PageHead>
    <p class="mb-4 text-soft">{{ gettext('%{speaker} It holds', { speaker: data.speaker ? gettext('%{speaker} answers offers to it.', { speaker: data.speaker.name }) : gettext('Nobody answers offers to it.') }) }} <RouterLink class="link" :to="{ path: '/grants', query: { filter: `holder.id eq &quot;${data.id}&quot; and state ne &quot;ended&quot;` } }">{{ ngettext('%{n} grant', '%{n} grants', data.grants) }}</RouterLink>.<template v-if="data.belongs_to.length">{{ ` ${gettext('It belongs to %{belongs_to}.', { belongs_to: data.belongs_to.map((one) => one.name).join(', ') })}` }}</template></p>
    <ProblemNote :error="failed" />
    <h2 class="mb-2 text-xl">{{ gettext('Members') }}</h2>
    <p v-if="!data.members.length" class="card border-dashed p-8 text-center text-soft">{{ gettext('It has no members yet. Add one: they have what the team has.') }}</p>
    <ul v-else class="card divide-y divide-line">
      <li v-for="one in data.members" :key="one.id" class="flex flex-wrap items-center gap-x-4 gap-y-1 px-5 py-2.5">
        <RouterLink :to="one.kind === 'person' ? `/people/${one.member.id}` : `/teams/${one.member.id}`" class="link min-w-48 flex-1 font-medium">{{ one.member.name }}</RouterLink>
        <span class="text-soft">{{ one.kind === 'team' ? gettext('team, ') : '' }}{{ one.since ? `${gettext('from %{since},', { since: moment(one.since) })} ` : '' }}{{ untilWords(one) }}</span>
        <span v-if="me?.administrator" class="flex gap-1">
          <button class="button" @click="changing = one.id">{{ gettext('When') }}<span class="sr-only">{{ ` ${gettext('%{member} belongs to it', { member: one.member.name })}` }}</span></button>
          <button class="button-end" @click="going = one">{{ gettext('Remove') }}<span class="sr-only"> {{ one.member.name }}</span></button>
        </span>
      </li>
    </ul>
    <ModalBox :open="going !== null" :title="gettext('Remove %{member} from %{data}?', { member: going?.member.name, data: data.name })" @close="going = null">
      <p class="mt-3">{{ gettext('What %{member} has by this team (%{count}) they have no more. What they hold otherwise stays.', { member: going?.member.name, count: ngettext('%{n} grant', '%{n} grants', data.grants) }) }}</p>
      <div class="mt-4 flex justify-end gap-2"><button class="button" @click="going = null">{{ gettext('Cancel') }}</button><button class="button-end" @click="((takeOut(going!.id)), (going = null))">{{ gettext('Remove %{member}', { member: going?.member.name }) }}</button></div>
    </ModalBox>
    <RecordDialog :open="isEditing" kind="teams" :id="id" @close="isEditing = false" @done="refetch()" @gone="router.push('/teams')" />
    <RecordDialog :open="isAdding" kind="memberships" :start="{ team: id }" @close="isAdding = false" @done="refetch()" />
    <RecordDialog :open="changing !== null" kind="memberships" :id="changing ?? undefined" @close="changing = null" @done="refetch()" />
  </template>
</template>
