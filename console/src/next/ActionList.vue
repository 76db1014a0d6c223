<script setup lang="ts">
import { ref } from 'vue'
import { RouterLink } from 'vue-router'

import { gettext, ngettext, pgettext } from '@/frame/language'
import type { NextAction } from '@/service/types'
import { day } from '@/frame/words'

import ActionDialogs from './ActionDialogs.vue'
import PostponeDialog from './PostponeDialog.vue'
import SeverityMark from '@/flags/SeverityMark.vue'

defineProps<{ actions: NextAction[]; isMatter?: boolean }>()
const emit = defineEmits<{ changed: [] }>()

/** What the button says that opens the preview. */
const VERBS: Record<string, string> = {
  end: gettext('Preview the end'),
  trim: gettext('Preview the trim'),
  set_end: gettext('Preview the new end'),
  end_sessions: gettext('Preview the end'),
  hand_over: gettext('Hand over'),
  identify: gettext('Identify'),
  close_exposures: gettext('Preview closing'),
  review: gettext('Review'),
  record: gettext('Preview recording'),
  accept: pgettext('flag', 'Accept'),
}
const doing = ref<NextAction | null>(null)
const later = ref<NextAction | null>(null)
const done = (): void => {
  doing.value = later.value = null
  emit('changed')
}
</script>

<template>
  <ol class="divide-y divide-line">
    <li v-for="(action, number) in actions" :key="action.key" class="grid gap-x-4 gap-y-2 px-5 py-3 grid-cols-[1.5rem_1fr] sm:grid-cols-[1.5rem_1fr_auto]" :data-test="`action-${number + 1}`">
      <p class="font-display text-lg font-semibold text-soft tabular-nums" aria-hidden="true">{{ number + 1 }}</p>
      <div class="min-w-0">
        <h3 class="text-base">{{ action.title }}</h3>
        <p class="text-sm">{{ action.clears[0]?.sentence }}</p>
        <p class="text-sm text-soft">
          <SeverityMark :severity="action.clears[0]?.severity ?? 1" class="mr-2 inline-flex" />
          {{ gettext('Would clear %{count}. %{notes}', { count: ngettext('%{n} flag', '%{n} flags', action.clears.length), notes: action.notes.join(' ') }) }}
          <RouterLink v-if="!isMatter" :to="`/matters/${action.matter}`" class="link">{{ gettext('Why') }}<span class="sr-only">: {{ action.title }}</span></RouterLink>
        </p>
        <p v-if="action.later_until" class="text-sm">{{ gettext('Put off until %{later_until}: %{later_because}', { later_until: day(action.later_until), later_because: action.later_because }) }}</p>
      </div>
      <div class="col-start-2 flex items-start gap-2 sm:col-start-3">
        <button class="button" @click="doing = action">{{ VERBS[action.kind] ?? gettext('Open') }}<span class="sr-only">: {{ action.title }}</span></button>
        <button v-if="!isMatter" class="button border-transparent bg-transparent text-soft" @click="later = action">{{ gettext('Later') }}<span class="sr-only">: {{ action.title }}</span></button>
      </div>
    </li>
  </ol>
  <ActionDialogs :action="doing" @close="doing = null" @done="done()" />
  <PostponeDialog :action="later" @close="later = null" @done="done()" />
</template>
