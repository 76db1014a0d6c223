<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { gettext, ngettext } from '@/frame/language'
import { SENSITIVITY_WORDS } from '@/frame/words'
import PageHead from '@/frame/PageHead.vue'
import type { AccountPage } from '@/service/types'

/** What an account is, and what can be done with it. */
defineProps<{ account: AccountPage; owns: boolean }>()
defineEmits<{ record: []; edit: []; handOver: []; disconnect: [] }>()
</script>

<template>
  <PageHead :title="account.name" :about="account.purpose">
    <dl class="flex flex-wrap gap-x-6 gap-y-1">
      <div><dt class="text-sm text-soft">{{ gettext('Sensitivity') }}</dt><dd class="font-semibold">{{ SENSITIVITY_WORDS[account.sensitivity] }}</dd></div>
      <div><dt class="text-sm text-soft">{{ gettext('Owner') }}</dt><dd class="font-semibold">{{ account.owner?.name ?? gettext('nobody') }}</dd></div>
      <div><dt class="text-sm text-soft">{{ gettext('Lives in') }}</dt><dd class="font-semibold">{{ account.system.name }}</dd></div>
      <div v-if="account.payer"><dt class="text-sm text-soft">{{ gettext('Paid by') }}</dt><dd class="font-semibold">{{ account.payer }}</dd></div>
      <div><dt class="text-sm text-soft">{{ gettext('Shared by') }}</dt><dd class="font-semibold">{{ account.holders }}</dd></div>
      <div v-if="account.answers_for"><dt class="text-sm text-soft">{{ gettext('Sessions') }}</dt><dd class="font-semibold">{{ account.sessions }}</dd></div>
    </dl>
    <div v-if="account.answers_for" class="flex flex-wrap gap-2">
      <RouterLink :to="{ path: '/give', query: { account: account.id } }" class="button-main">{{ gettext('Offer access') }}</RouterLink>
      <RouterLink :to="`/accounts/${account.id}/rules`" class="button">{{ gettext('Access rules') }}</RouterLink>
      <button class="button" @click="$emit('record')">{{ gettext('Record existing access') }}</button>
      <button v-if="owns" class="button" @click="$emit('edit')">{{ gettext('Edit') }}</button>
      <button v-if="owns" class="button" @click="$emit('handOver')">{{ gettext('Hand over') }}</button>
      <button v-if="account.app_count > 1" class="button-end" @click="$emit('disconnect')">{{ gettext('Disconnect %{count}', { count: ngettext('%{n} app', '%{n} apps', account.app_count) }) }}</button>
    </div>
  </PageHead>
</template>
