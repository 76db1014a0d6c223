<script setup lang="ts">
import { useRouter } from 'vue-router'

import { gettext } from '@/frame/language'
import { me, useSwitch } from '@/identity/me'
import { ends } from './words'

import ReachMark from './ReachMark.vue'

const router = useRouter()
const { leave } = useSwitch()

async function out(): Promise<void> {
  await leave()
  await router.push('/mine')
}
</script>

<template>
  <div v-if="me?.inside" role="status" class="border-y-2 border-brass bg-brass-wash" data-test="inside">
    <div class="mx-auto flex max-w-[1240px] flex-wrap items-center gap-x-5 gap-y-1 px-4 py-2 sm:px-6">
      <p class="font-semibold">
        {{ gettext('You are in %{account}, which is %{owner}.', { account: me.inside.account.name, owner: me.inside.owner ? `${me.inside.owner.name}’s` : 'nobody’s' }) }}
      </p>
      <ReachMark :reach="me.inside.reach" />
      <p class="min-w-0 flex-1">
        {{ me.inside.levels.join(', ') }}<template v-if="me.inside.parts.length">{{ ` ${gettext('on %{parts}', { parts: me.inside.parts.join(', ') })}` }}</template>{{ gettext(', %{inside}. What you do is recorded as done by you, on behalf of %{owner}.', { inside: ends(me.inside), owner: me.inside.owner?.name ?? 'nobody' }) }}
      </p>
      <button class="button" data-test="leave" @click="out">{{ gettext('Switch out') }}</button>
    </div>
  </div>
</template>
