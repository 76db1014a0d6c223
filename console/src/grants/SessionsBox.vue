<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'
import { computed, ref } from 'vue'
import { RouterLink } from 'vue-router'

import { ago, moment } from '@/frame/words'
import HolderName from '@/people/HolderName.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'
import { get } from '@/service/api'

/** The sessions that are going on in an account, the last seen first. */
const props = defineProps<{ account: string }>()
const filter = computed(() => `account.id eq "${props.account}" and not (ended_at pr)`)
const { data } = useQuery({ key: () => ['sessions', 'of account', props.account], query: () => get('/sessions', { filter: filter.value, sort: '-last_seen_at', limit: 8, count: true }) })
const ending = ref<string | null>(null)
</script>

<template>
  <section v-if="data?.rows.length" aria-labelledby="sessions-here">
    <h2 id="sessions-here" class="mb-2 text-xl">{{ gettext('Sessions') }} <span class="ml-2 font-sans text-base font-normal text-soft">{{ gettext('%{count} open', { count: ngettext('%{n} session', '%{n} sessions', data.count ?? data.rows.length) }) }}</span></h2>
    <ul class="card divide-y divide-line">
      <li v-for="one in data.rows" :key="one.id" class="flex flex-wrap items-center gap-x-4 gap-y-1 px-5 py-2">
        <HolderName :holder="one.holder" class="min-w-48 font-medium" />
        <span class="min-w-0 flex-1 text-soft">{{ [one.device, one.place, one.address].filter(Boolean).join(', ') }}</span>
        <span class="text-soft">{{ gettext('since %{started_at}, seen %{last_seen_at}', { started_at: moment(one.started_at), last_seen_at: ago(one.last_seen_at) }) }}</span>
        <button class="link text-rust" @click="ending = one.id">{{ gettext('End') }}<span class="sr-only">{{ ` ${gettext('the session of %{holder}', { holder: one.holder.name })}` }}</span></button>
      </li>
    </ul>
    <p v-if="(data.count ?? 0) > data.rows.length" class="mt-2"><RouterLink :to="{ path: '/sessions', query: { filter } }" class="link">{{ gettext('All %{count} sessions', { count: data.count }) }}</RouterLink></p>
    <RevokeDialog :open="ending !== null" :sessions="ending ? [ending] : []" @close="ending = null" @started="ending = null" />
  </section>
</template>
