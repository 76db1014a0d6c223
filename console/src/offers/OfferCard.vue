<script setup lang="ts">
import { gettext } from '@/frame/language'
import type { OpenOffer } from '@/service/types'
import { ends, moment } from '@/frame/words'

import ReachMark from '@/frame/ReachMark.vue'
import RightList from '@/access/RightList.vue'

defineProps<{ offer: OpenOffer }>()
</script>

<template>
  <div class="space-y-4">
    <p class="text-lg">
      <strong>{{ offer.sender?.name ?? offer.organisation }}</strong><template v-if="offer.sender?.address"> ({{ offer.sender.address }})</template>
      {{ gettext('offers %{holder} %{kind}', { holder: offer.holder === offer.person.name ? gettext('you') : offer.holder, kind: offer.kind === 'ownership' ? gettext('the ownership of') : gettext('access to') }) }}
      <strong>{{ offer.account.name }}</strong>.
    </p>
    <p v-if="offer.purpose" class="text-soft">{{ offer.purpose }}</p>
    <p v-if="offer.reason" class="border-l-4 border-line pl-3">“{{ offer.reason }}”</p>
    <RightList :can="offer.can" :cannot="offer.cannot" />
    <dl class="grid gap-x-6 gap-y-2 sm:grid-cols-2">
      <div><dt class="text-sm text-soft">{{ gettext('Reach') }}</dt><dd><ReachMark :reach="offer.reach" /></dd></div>
      <div v-if="offer.kind === 'access'"><dt class="text-sm text-soft">{{ gettext('Where') }}</dt><dd>{{ offer.parts.length ? offer.parts.join(', ') : gettext('the whole account') }}</dd></div>
      <div v-if="offer.kind === 'access'"><dt class="text-sm text-soft">{{ gettext('When') }}</dt><dd>{{ offer.since ? `${gettext('from %{since},', { since: moment(offer.since) })} ` : '' }}{{ ends(offer) }}<template v-if="offer.hours">; {{ offer.hours }}</template></dd></div>
      <div><dt class="text-sm text-soft">{{ gettext('Expires') }}</dt><dd>{{ moment(offer.runs_out_at) }}</dd></div>
    </dl>
    <p v-if="offer.kind === 'ownership'">{{ offer.words }}<template v-if="offer.keeps">{{ ` ${gettext('The present owner keeps “%{keeps}”.', { keeps: offer.keeps })}` }}</template></p>
  </div>
</template>
