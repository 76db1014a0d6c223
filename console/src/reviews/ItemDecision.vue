<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import type { ItemRow } from '@/service/types'
import { day } from '@/frame/words'
import ProofMark from '@/revocations/ProofMark.vue'

import { DONE_WORDS } from './reviews'

/** What was decided of an item, by whom, and what has come of it. */
defineProps<{ item: ItemRow }>()
</script>

<template>
  <p class="mt-3 rounded-md bg-sunk px-3 py-2">
    <strong>{{ item.fate ? gettext('Nobody decided') : DONE_WORDS[item.verdict!] }}</strong><template v-if="item.decided_by">{{ ` ${gettext('by %{decided_by}', { decided_by: item.decided_by.name })}` }}</template><template v-if="item.seconded_by">{{ gettext(', %{seconded_by} agreed', { seconded_by: item.seconded_by.name }) }}</template>{{ item.reason ? `: ${item.reason}` : '' }}
    <template v-if="item.trim_level">{{ ` ${gettext('To %{trim_level}.', { trim_level: item.trim_level.name })}` }}</template><template v-if="item.trim_until">{{ ` ${gettext('Until %{trim_until}.', { trim_until: day(item.trim_until) })}` }}</template><template v-if="item.trim_to_use">{{ ` ${gettext('To the use that was seen.')}` }}</template><template v-if="item.successor">{{ ` ${gettext('To %{successor}.', { successor: item.successor.name })}` }}</template>
    <RouterLink v-if="item.revocation_id" :to="`/revocations/${item.revocation_id}`" class="link ml-2">{{ gettext('See it carried out') }}</RouterLink>
    <RouterLink v-if="item.draft_id" :to="`/accounts/${item.facts.account.id}/rules?draft=${item.draft_id}`" class="link ml-2">{{ gettext('See the rules being set') }}</RouterLink>
    <span v-if="item.outcome || item.explained" class="block text-soft"><ProofMark v-if="item.proof" :proof="item.proof" :by="item.proved_by" class="mr-2" />{{ item.explained || item.outcome }}</span>
  </p>
</template>
