<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { get } from '@/service/api'
import type { ExposureRow, FlagRow, GrantRow, NextAction, Rows } from '@/service/types'

import AcceptDialog from '@/flags/AcceptDialog.vue'
import ChangeDialog from '@/grants/ChangeDialog.vue'
import CloseExposuresDialog from '@/exposure/CloseExposuresDialog.vue'
import RevokeDialog from '@/revocations/RevokeDialog.vue'

const props = defineProps<{ action: NextAction | null }>()
const emit = defineEmits<{ close: []; done: [] }>()
const router = useRouter()

const grants = ref<GrantRow[]>([])
const exposures = ref<ExposureRow[]>([])
const flags = ref<FlagRow[]>([])
const CHANGES: Record<string, string> = { trim: 'set_level', set_end: 'set_end', record: 'adopt' }
const kind = computed(() => props.action?.kind ?? '')
const among = (ids: string[]): string => ids.map((id) => `id eq "${id}"`).join(' or ')

/** Where an action is done that has a page of its own. */
function pageOf(action: NextAction): { path: string; query?: Record<string, string>; hash?: string } | null {
  if (action.kind === 'hand_over' && action.account) return { path: `/accounts/${action.account.id}`, query: { hand_over: action.successor?.id ?? '' } }
  if (action.kind === 'identify') return { path: '/drift', hash: '#doubts' }
  if (action.kind === 'review' && action.account) return { path: '/rounds', query: { scope: `account.id eq "${action.account.id}"` } }
  return null
}

watch(() => props.action, async (action) => {
  grants.value = []
  exposures.value = []
  flags.value = []
  if (!action) return
  const page = pageOf(action)
  if (page) return void router.push(page)
  if (action.kind in CHANGES) grants.value = (await get('/grants', { filter: among(action.grants), limit: 100 }) as Rows<GrantRow>).rows
  if (action.kind === 'close_exposures') exposures.value = (await get('/exposures', { filter: among(action.exposures), limit: 100 }) as Rows<ExposureRow>).rows
  if (action.kind === 'accept') flags.value = (await get('/flags', { filter: among(action.clears.map((flag) => flag.id)), limit: 100 }) as Rows<FlagRow>).rows
})
</script>

<template>
  <RevokeDialog :open="kind === 'end' || kind === 'end_sessions'" :grants="action?.grants ?? []" :sessions="action?.sessions ?? []" @close="$emit('close')" @started="emit('done')" />
  <ChangeDialog :open="grants.length > 0" :grants="grants" :only="CHANGES[kind]" :level="action?.level?.id" :last-day="action?.last_day ?? undefined" :title="action?.title" @close="$emit('close')" @done="emit('done')" />
  <CloseExposuresDialog :exposures="exposures" @close="$emit('close')" />
  <AcceptDialog :flags="flags" @close="emit('done')" />
</template>
