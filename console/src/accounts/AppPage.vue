<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink, useRouter } from 'vue-router'

import { get } from '@/service/api'
import { me } from '@/identity/me'
import { ago, day, untilWords } from '@/frame/words'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import PageHead from '@/frame/PageHead.vue'
import ReachMark from '@/frame/ReachMark.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import StateNote from '@/frame/StateNote.vue'
import MergeDialog from '@/records/MergeDialog.vue'
import RecordDialog from '@/records/RecordDialog.vue'

const props = defineProps<{ id: string }>()
const { data, status, error, refetch } = useQuery({ key: () => ['app', props.id], query: () => get(`/apps/${props.id}`) })
const router = useRouter()
const isEditing = ref(false)
const isMerging = ref(false)
const isDisconnecting = ref(false)
const ending = ref<string[]>([])
const canEnd = computed(() => Boolean(me.value?.administrator || me.value?.owner))
</script>

<template>
  <StateNote :status="status" :error="error" @retry="refetch" />
  <template v-if="data">
    <PageHead :title="data.name" :about="data.purpose">
      <p class="text-soft">
        {{ gettext('By %{publisher}', { publisher: data.publisher || gettext('nobody known') }) }}
        <a v-if="data.home_page" :href="data.home_page" rel="noreferrer noopener" class="link ml-2">{{ data.home_page }}</a>
      </p>
      <template v-if="me?.administrator">
        <button class="button" @click="isEditing = true">{{ gettext('Edit') }}</button>
        <button class="button" @click="isMerging = true">{{ gettext('Merge…') }}</button>
      </template>
      <button v-if="canEnd && data.grants.length > 1" class="button-end" @click="isDisconnecting = true">
        {{ gettext('Disconnect from %{count}', { count: ngettext('%{n} account', '%{n} accounts', data.grants.length) }) }}
      </button>
    </PageHead>
    <h2 class="mb-2 text-xl">{{ gettext('Linked accounts') }}</h2>
    <ul v-if="data.grants.length" class="card divide-y divide-line">
      <li v-for="grant in data.grants" :key="grant.id" class="grid gap-x-4 gap-y-1 px-5 py-3 md:grid-cols-[2fr_3fr_8rem_2fr_auto]">
        <RouterLink :to="`/accounts/${grant.account.id}`" class="link font-medium">{{ grant.account.name }}</RouterLink>
        <p>{{ grant.level }}<span class="block text-sm text-soft">{{ grant.sentence }}</span></p>
        <ReachMark v-if="grant.reach" :reach="grant.reach" />
        <p class="text-sm text-soft">{{ gettext('Linked by %{given_by} %{given_at}; used %{last_used_at}; %{grant}', { given_by: grant.given_by?.name ?? gettext('nobody known'), given_at: day(grant.given_at), last_used_at: ago(grant.last_used_at), grant: untilWords(grant) }) }}</p>
        <button v-if="canEnd && grant.state !== 'revoking'" class="button-end justify-self-start" @click="ending = [grant.id]">{{ gettext('Unlink') }}<span class="sr-only"> {{ grant.account.name }}</span></button>
        <span v-else class="text-sm text-brass">{{ grant.state === 'revoking' ? 'revoking' : '' }}</span>
      </li>
    </ul>
    <StateNote v-else status="success" empty :empty-text="gettext('It is linked to nothing.')" />
    <ChangeDialog :open="isDisconnecting" :filter="`holder.id eq &quot;${id}&quot;`" only="end" :title="gettext('Disconnect %{data} from all accounts', { data: data.name })" @close="isDisconnecting = false" @done="refetch()" />
    <RevokeDialog :open="ending.length > 0" :grants="ending" @close="ending = []" @started="ending = []" />
    <RecordDialog :open="isEditing" kind="apps" :id="id" @close="isEditing = false" @done="refetch()" @gone="router.push('/apps')" />
    <MergeDialog :open="isMerging" kind="apps" :id="id" :name="data.name" @close="isMerging = false" @done="refetch()" />
  </template>
</template>
