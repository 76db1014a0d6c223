<script setup lang="ts">
import { gettext, ngettext } from '@/frame/language'
import { useQueryCache } from '@pinia/colada'
import { computed, ref } from 'vue'

import { send } from '@/service/api'
import { proving } from '@/identity/proof'
import type { ItemRow, Verdict } from '@/service/types'

import ProblemNote from '@/frame/ProblemNote.vue'

const props = defineProps<{ round: string; items: ItemRow[] }>()
const emit = defineEmits<{ clear: [] }>()
const cache = useQueryCache()

const reason = ref('')
const error = ref<unknown>(null)
const refused = ref<string[]>([])
const note = ref('')
const flagged = computed(() => props.items.filter((item) => item.flagged).length)

async function decide(verdict: Verdict): Promise<void> {
  error.value = null
  note.value = ''
  const body = { verdict, reason: reason.value, items: props.items.map((item) => ({ id: item.id, version: item.version })) }
  try {
        const found = await proving(() => send('POST', `/rounds/${props.round}/decisions`, body))
    const names = new Map(props.items.map((item) => [item.id, `${item.position} ${item.holder.name}`]))
    refused.value = found.lines.filter((line) => line.refused).map((line) => `${names.get(line.id)}: ${line.refused}`)
    note.value = gettext('%{count} decided.', { count: ngettext('%{n} item', '%{n} items', found.decided) })
    if (!refused.value.length) emit('clear')
    await cache.invalidateQueries({ key: ['round'] })
    await cache.invalidateQueries({ key: ['items'] })
  } catch (failed) {
    error.value = failed
  }
}
</script>

<template>
  <section v-if="items.length || note" class="card sticky bottom-3 z-20 mt-3 border-moss p-4 shadow-lg" :aria-label="gettext('Many at once')">
    <p v-if="!items.length" role="status">{{ note }} <button class="link" @click="note = ''">{{ gettext('Done') }}</button></p>
    <form v-else class="flex flex-wrap items-end gap-3" @submit.prevent>
      <label class="min-w-48 flex-1 font-semibold">{{ gettext('%{count} picked; why', { count: ngettext('%{n} item', '%{n} items', items.length) }) }} <input v-model="reason" class="field mt-1 font-normal" /></label>
      <button type="button" class="button-main" @click="decide('keep')">{{ gettext('Keep %{count}', { count: ngettext('%{n} item', '%{n} items', items.length) }) }}</button>
      <button type="button" class="button-end" @click="decide('revoke')">{{ gettext('Revoke %{count}', { count: ngettext('%{n} item', '%{n} items', items.length) }) }}</button>
      <button type="button" class="button" @click="$emit('clear')">{{ gettext('Clear selection') }}</button>
    </form>
    <p v-if="flagged && items.length" class="mt-1 text-sm text-soft">{{ ngettext('%{n} of them is flagged: it is kept by itself.', '%{n} of them are flagged: those are kept one by one.', flagged) }}</p>
    <ul v-if="refused.length" class="mt-2 list-disc pl-5"><li v-for="line in refused" :key="line">{{ line }}</li></ul>
    <ProblemNote :error="error" />
  </section>
</template>
