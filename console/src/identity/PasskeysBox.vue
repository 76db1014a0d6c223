<script setup lang="ts">
import { ref } from 'vue'

import { gettext } from '@/frame/language'
import { send } from '@/service/api'
import { moment } from '@/frame/words'
import { hasPasskeys, makePasskey } from './passkeys'
import type { PasskeyOf } from '@/service/types'

const props = defineProps<{ rows: PasskeyOf[]; run: (call: () => Promise<unknown>, done: string) => Promise<void> }>()
const name = ref('')
const named = `${window.location.protocol}//localhost${window.location.port ? `:${window.location.port}` : ''}`
const isHere = /^127\.|^\[::1\]$/.test(window.location.hostname)

const add = () => props.run(async () => {
  const answer = await makePasskey(await send('POST', '/me/passkeys/begin'))
  await send('POST', '/me/passkeys', { name: name.value, ...answer })
  name.value = ''
}, gettext('The passkey is added. From now on your password alone does not sign you in.'))
</script>

<template>
  <section class="card space-y-3 p-5" aria-labelledby="passkeys" data-test="passkeys">
    <h2 id="passkeys" class="text-xl">{{ gettext('Passkeys') }}</h2>
    <p v-if="!rows.length" class="text-soft">{{ gettext('A passkey on your phone, computer or security key signs you in without a password, and only here: a page that imitates this one gets nothing.') }}</p>
    <ul v-else class="divide-y divide-line">
      <li v-for="one in rows" :key="one.id" class="flex flex-wrap items-center gap-2 py-1.5">
        <span class="flex-1">{{ one.name }} <span class="block text-sm text-soft">{{ gettext('added %{made_at}; %{last_used_at}; %{is_backed_up}', { made_at: moment(one.made_at), last_used_at: one.last_used_at ? gettext('used %{last_used_at}', { last_used_at: moment(one.last_used_at) }) : gettext('never used'), is_backed_up: one.is_backed_up ? gettext('shared by your devices') : gettext('on one device') }) }}</span></span>
        <button class="button" @click="run(() => send('DELETE', `/me/passkeys/${one.id}`), gettext('Removed. Remove it from the device as well, which still offers it.'))">{{ gettext('Remove') }}<span class="sr-only">{{ ` ${gettext('the passkey %{one}', { one: one.name })}` }}</span></button>
      </li>
    </ul>
    <form v-if="hasPasskeys" class="flex gap-2" @submit.prevent="add">
      <input v-model="name" required maxlength="100" class="field" :aria-label="gettext('What the new passkey is called')" :placeholder="gettext('As: phone, security key')" />
      <button class="button shrink-0">{{ gettext('Add a passkey') }}</button>
    </form>
    <p v-else-if="isHere" class="text-soft">{{ gettext('Browsers make passkeys only for host names, and this page has a number. Open') }} <a :href="`${named}/me`" class="link">{{ named }}</a> {{ gettext('to add one.') }}</p>
    <p v-else class="text-soft">{{ gettext('This browser can’t make passkeys here.') }}</p>
  </section>
</template>
