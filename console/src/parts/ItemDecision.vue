<script setup lang="ts">
import { useQuery, useQueryCache } from '@pinia/colada'
import { computed, onMounted, ref, useTemplateRef } from 'vue'
import { RouterLink } from 'vue-router'

import { get, send } from '@/data/api'
import type { ItemRow, LevelRow, Rows } from '@/data/types'
import { ago, day, plain, untilWords } from '@/lib/words'

import ProblemNote from './ProblemNote.vue'
import SeverityMark from './SeverityMark.vue'

const props = defineProps<{ item: ItemRow; closed: boolean; acts: string }>()
const emit = defineEmits<{ decided: [] }>()
const cache = useQueryCache()

const reason = ref(props.item.reason)
const isTrimming = ref(false)
const trimUntil = ref('')
const trimLevel = ref('')
const error = ref<unknown>(null)
const isBusy = ref(false)
const field = useTemplateRef('field')

const facts = computed(() => props.item.facts)
const isOpen = computed(() => !props.closed && !props.item.revocation_id)
const levels = useQuery({
  key: () => ['levels', facts.value.system.id],
  query: () => get<Rows<LevelRow>>('/levels', { filter: `system.id eq "${facts.value.system.id}" and reach le "${['', 'observe', 'operate', 'spend', 'steward'][facts.value.reach]}"` }),
})
const lower = computed(() => (levels.data.value?.rows ?? []).filter((level) => level.name !== facts.value.level))

onMounted(() => field.value?.focus())

async function decide(verdict: 'keep' | 'trim' | 'revoke'): Promise<void> {
  isBusy.value = true
  error.value = null
  const body = {
    verdict,
    reason: reason.value,
    trim_level: (verdict === 'trim' && trimLevel.value) || null,
    trim_until: verdict === 'trim' && trimUntil.value ? new Date(`${trimUntil.value}T23:59:59.999`).toISOString() : null,
  }
  try {
    const path = `/rounds/${props.item.round_id}/items/${props.item.id}/decision`
    await send<ItemRow>('POST', path, body, { 'If-Match': `"${props.item.version}"` })
    // Told before the list is read again: a decided line may leave it, and this part with it.
    emit('decided')
    await cache.invalidateQueries({ key: ['round', props.item.round_id] })
    await cache.invalidateQueries({ key: ['items'] })
  } catch (failed) {
    error.value = failed
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <div class="border-t border-line bg-sunk/50 px-5 py-4 md:pl-18">
    <p>
      <strong>{{ facts.holder.name }}</strong> ({{ facts.holder.inside === false ? 'outside' : 'inside' }}) in <strong>{{ facts.account.name }}</strong>:
      {{ facts.sentence }}
    </p>
    <p class="mt-1 text-soft">
      Given {{ day(facts.given_at) }} by {{ facts.given_by?.name ?? 'nobody known' }}{{ facts.reason ? `: “${facts.reason}”` : '' }}.
      Until: {{ untilWords(facts.until) }}. Used: {{ ago(facts.last_used_at) }}. Now: {{ plain(item.grant_state) }}.
      For {{ item.reviewer?.name ?? 'nobody yet' }} to decide.
    </p>
    <ul v-if="facts.flags.length" class="mt-2 space-y-1">
      <li v-for="flag in facts.flags" :key="flag.rule" class="flex gap-2"><SeverityMark :severity="flag.severity" class="shrink-0 self-start" /> {{ flag.sentence }}</li>
    </ul>
    <p v-if="item.verdict" class="mt-3">
      <strong>{{ item.verdict }}</strong><template v-if="item.decided_by"> by {{ item.decided_by.name }}</template>{{ item.reason ? `: ${item.reason}` : '' }}
      <RouterLink v-if="item.revocation_id" :to="`/revocations/${item.revocation_id}`" class="link ml-2">See it carried out</RouterLink>
    </p>
    <div v-if="isOpen" class="mt-3 space-y-3">
      <label class="block font-semibold">Why <input ref="field" v-model="reason" class="field mt-1 font-normal" placeholder="A keep needs no reason unless a high flag is open" @keydown.ctrl.enter="decide('keep')" /></label>
      <div v-if="isTrimming" class="flex flex-wrap items-end gap-3">
        <label class="font-semibold">New last day <input v-model="trimUntil" type="date" class="field mt-1 font-normal" /></label>
        <label v-if="lower.length" class="font-semibold">
          Lower level
          <select v-model="trimLevel" class="field mt-1 font-normal">
            <option value="">as it is</option>
            <option v-for="level in lower" :key="level.id" :value="level.id">{{ level.name }}</option>
          </select>
        </label>
        <button class="button-main" :disabled="isBusy || (!trimUntil && !trimLevel)" @click="decide('trim')">Trim to this</button>
      </div>
      <ProblemNote :error="error" />
      <div class="flex flex-wrap items-center gap-2">
        <button class="button-main" :disabled="isBusy" @click="decide('keep')">Keep</button>
        <button class="button" :aria-expanded="isTrimming" :disabled="isBusy" @click="isTrimming = !isTrimming">Trim…</button>
        <button class="button-end" :disabled="isBusy" @click="decide('revoke')">Revoke “{{ facts.level }}” of {{ facts.holder.name }}</button>
        <span class="text-sm text-soft">{{ acts === 'when_decided' ? 'What ends access starts at once.' : 'What ends access starts when the round closes.' }}</span>
      </div>
    </div>
  </div>
</template>
