<script setup lang="ts">
/** What readings of an account look at, and what not. */
import { gettext } from '@/frame/language'
import type { AccountPage } from '@/service/types'
import { moment } from '@/frame/words'

defineProps<{ account: AccountPage }>()
</script>

<template>
  <section class="card p-5" :class="{ 'border-rust': account.partial_since }" aria-labelledby="coverage">
    <h2 id="coverage" class="mb-1 text-xl">{{ gettext('What reads cover') }}</h2>
    <p v-if="account.partial_since" class="font-semibold text-rust">{{ gettext('Read only in part since %{partial_since}: what is not shown may be there.', { partial_since: moment(account.partial_since) }) }}</p>
    <p v-if="account.coverage.looked_at?.length">{{ gettext('Covered: %{looked_at}.', { looked_at: account.coverage.looked_at.join(', ') }) }}</p>
    <ul v-if="account.coverage.not_looked_at?.length" class="mt-1 list-disc pl-5 text-soft"><li v-for="gap in account.coverage.not_looked_at" :key="gap">{{ gettext('Not covered: %{gap}', { gap }) }}</li></ul>
  </section>
</template>
