<script setup lang="ts">
import { computed } from 'vue'

import { gettext } from '@/frame/language'
import type { Field, Values } from './forms'

import RecordPicker from './RecordPicker.vue'

/** One field of a form: its label, its input, its help, and what is wrong with it. */
const value = defineModel<unknown>({ required: true })
const props = defineProps<{ field: Field; values: Values; named: Record<string, string>; fault?: string; isNew: boolean; account?: string }>()
const emit = defineEmits<{ named: [id: string, name: string] }>()

const ident = computed(() => `field-${props.field.name}`)
const described = computed(() => [props.field.help ? `${ident.value}-help` : '', props.fault ? `${ident.value}-fault` : ''].filter(Boolean).join(' ') || undefined)
const text = computed({ get: () => String(value.value ?? ''), set: (written) => (value.value = written === '' && props.field.reads !== 'text' && props.field.reads !== 'long' ? null : written) })
const lines = computed({ get: () => ((value.value as string[]) ?? []).join('\n'), set: (written) => (value.value = written.split('\n').map((line) => line.trim()).filter(Boolean)) })
const one = computed({ get: () => (value.value as string | null) ?? null, set: (picked) => (value.value = picked) })
const marks = computed(() => (value.value as { kind: string; value: string }[]) ?? [])
const logins = computed(() => (value.value as { system: string; name: string }[]) ?? [])
const many = computed(() => (value.value as string[]) ?? [])
const payer = computed(() => value.value as { kind: string; id: string } | null)
const MARKS: [string, string][] = [['uid', 'uid'], ['fingerprint', gettext('key’s fingerprint')], ['employee', gettext('staff number')]]
const PAYERS: [string, string][] = [['person', 'people'], ['team', 'teams'], ['account', 'accounts']]

function put<T>(list: T[], place: number, change: Partial<T> | null): void {
  value.value = change === null ? list.filter((_one, index) => index !== place) : list.map((item, index) => (index === place ? { ...item, ...change } : item))
}
</script>

<template>
  <div v-if="field.reads === 'yes'">
    <label class="flex items-start gap-2 font-semibold"><input :id="ident" v-model="value" type="checkbox" class="mt-1 size-4.5 accent-moss" :aria-describedby="described" /> {{ field.label }}</label>
  </div>
  <fieldset v-else-if="['marks', 'logins', 'many', 'payer'].includes(field.reads)">
    <legend class="font-semibold">{{ field.label }}</legend>
    <template v-if="field.reads === 'marks'">
      <div v-for="(mark, place) in marks" :key="place" class="mt-1 flex gap-2">
        <select :value="mark.kind" :aria-label="gettext('Kind of mark %{place}', { place: place + 1 })" class="field w-44" @change="put(marks, place, { kind: ($event.target as HTMLSelectElement).value })"><option v-for="[kind, words] in MARKS" :key="kind" :value="kind">{{ words }}</option></select>
        <input :value="mark.value" :aria-label="gettext('Mark %{place}', { place: place + 1 })" class="field" @input="put(marks, place, { value: ($event.target as HTMLInputElement).value })" />
        <button type="button" class="button" @click="put(marks, place, null)">{{ gettext('Remove') }}<span class="sr-only">{{ ` ${gettext('mark %{place}', { place: place + 1 })}` }}</span></button>
      </div>
      <button type="button" class="link mt-1" @click="value = [...marks, { kind: 'uid', value: '' }]">{{ gettext('Add a mark') }}</button>
    </template>
    <template v-else-if="field.reads === 'logins'">
      <div v-for="(login, place) in logins" :key="place" class="mt-1 flex flex-wrap gap-2 sm:flex-nowrap">
        <RecordPicker :id="`${ident}-${place}`" of="systems" :label="gettext('System of login %{place}', { place: place + 1 })" class="w-full" :model-value="login.system" :named="named[login.system]" @update:model-value="put(logins, place, { system: $event ?? '' })" />
        <input :value="login.name" :aria-label="gettext('Login %{place}', { place: place + 1 })" class="field" @input="put(logins, place, { name: ($event.target as HTMLInputElement).value })" />
        <button type="button" class="button" @click="put(logins, place, null)">{{ gettext('Remove') }}<span class="sr-only">{{ ` ${gettext('login %{place}', { place: place + 1 })}` }}</span></button>
      </div>
      <button type="button" class="link mt-1" @click="value = [...logins, { system: '', name: '' }]">{{ gettext('Add a login') }}</button>
    </template>
    <template v-else-if="field.reads === 'many'">
      <ul class="mt-1 flex flex-wrap gap-1.5">
        <li v-for="(ident_, place) in many" :key="ident_" class="flex items-center gap-1 rounded-full border border-line bg-sunk pl-3">{{ named[ident_] ?? gettext('one more') }}<button type="button" class="rounded-full px-2" @click="put(many as never[], place, null)">×<span class="sr-only">{{ gettext('Take out %{named}', { named: named[ident_] }) }}</span></button></li>
      </ul>
      <RecordPicker :id="ident" :of="field.of!" :label="gettext('Add to %{label}', { label: field.label })" class="mt-1" :filter="account ? `account.id eq &quot;${account}&quot;` : undefined" :model-value="null" @update:model-value="$event && !many.includes($event) && (value = [...many, $event])" @named="emit('named', many[many.length - 1] ?? '', $event)" />
    </template>
    <div v-else class="mt-1 flex flex-wrap gap-2 sm:flex-nowrap">
      <select class="field w-44" :aria-label="gettext('Kind of: %{label}', { label: field.label })" :value="payer?.kind ?? ''" @change="value = ($event.target as HTMLSelectElement).value ? { kind: ($event.target as HTMLSelectElement).value, id: '' } : null">
        <option value="">{{ gettext('not known') }}</option>
        <option value="person">{{ gettext('a person') }}</option>
        <option value="team">{{ gettext('a team or partner') }}</option>
        <option value="account">{{ gettext('another account') }}</option>
      </select>
      <RecordPicker v-if="payer" :id="ident" :key="payer.kind" class="w-full" :of="PAYERS.find(([kind]) => kind === payer!.kind)![1]" :label="field.label" :model-value="payer.id || null" :named="named[payer.id]" @update:model-value="value = { kind: payer!.kind, id: $event ?? '' }" />
    </div>
  </fieldset>
  <div v-else>
    <label :for="ident" class="block font-semibold">{{ field.label }}<span v-if="field.required" class="font-normal text-soft">{{ ` ${gettext('(needed)')}` }}</span></label>
    <RecordPicker v-if="field.reads === 'one'" :id="ident" v-model="one" :of="field.of!" :label="field.label" class="mt-1" :named="named[one ?? '']" :disabled="field.fixed && !isNew" :describedby="described" :invalid="Boolean(fault)" />
    <textarea v-else-if="field.reads === 'long'" :id="ident" v-model="text" rows="2" class="field mt-1" :aria-describedby="described" :aria-invalid="Boolean(fault) || undefined" />
    <textarea v-else-if="field.reads === 'emails'" :id="ident" v-model="lines" rows="2" class="field mt-1" :aria-describedby="described" :aria-invalid="Boolean(fault) || undefined" />
    <select v-else-if="field.reads === 'choice'" :id="ident" v-model="value" class="field mt-1" :aria-describedby="described" :aria-invalid="Boolean(fault) || undefined"><option v-for="[choice, words] in field.choices" :key="choice" :value="choice">{{ words }}</option></select>
    <input v-else :id="ident" v-model="text" :type="field.reads === 'day' ? 'date' : field.reads === 'email' ? 'email' : 'text'" class="field mt-1" :class="field.reads === 'day' ? 'max-w-52' : ''" :required="field.required" :aria-describedby="described" :aria-invalid="Boolean(fault) || undefined" :placeholder="field.reads === 'zone' ? 'Europe/London' : undefined" />
  </div>
  <p v-if="field.help" :id="`${ident}-help`" class="text-sm text-soft">{{ field.help }}</p>
  <p v-if="fault" :id="`${ident}-fault`" class="text-sm font-semibold text-rust">{{ fault.charAt(0).toUpperCase() + fault.slice(1) }}</p>
</template>
