<script setup lang="ts">
import { gettext } from '@/frame/language'
import { useQuery } from '@pinia/colada'

import { get } from '@/service/api'
import type { CharterChange as Change } from '@/service/types'
import { moment } from '@/frame/words'

import StateNote from '@/frame/StateNote.vue'

const { data, status, error, refetch } = useQuery({ key: ['charter'], query: () => get('/charter') })
const partWords: Record<string, string> = {
  teams: gettext('Team'), members: gettext('Member'), levels: gettext('Level'), latches: gettext('Latch'), rules: gettext('Rules'), own_rules: gettext('Own rule'), schedules: gettext('Schedule'), expected_exposures: gettext('Expected exposure'),
}
const said = (value: unknown) => (value === null || value === undefined || value === '' || (Array.isArray(value) && !value.length) ? '–' : typeof value === 'string' ? gettext('“%{text}”', { text: value }) : JSON.stringify(value))
/** What the register has that the charter has otherwise, as a sentence. */
function difference(change: Change): string {
  if (change.change === 'add') return gettext('is not in the register')
  if (change.change === 'remove') return gettext('is in the register only')
  return change.values.map((value) => gettext('%{field}: %{was} in the register, %{will} in the charter', { field: value.field.replaceAll('_', ' '), was: said(value.was), will: said(value.will) })).join('; ')
}
</script>

<template>
  <section class="card p-5 lg:col-span-2" aria-labelledby="charter">
    <h2 id="charter" class="text-xl">{{ gettext('Charter') }}</h2>
    <p class="text-soft">{{ gettext('Teams, levels, latches, rules, schedules and expected exposures as files: compared with the register and adopted from the command line.') }} <a href="/docs/how-to/keep-it-in-files.html" class="link" target="_blank" rel="noopener">{{ gettext('How that is done') }}<span class="sr-only">{{ ` ${gettext('(opens in a new tab)')}` }}</span></a></p>
    <StateNote :status="status" :error="error" @retry="refetch" />
    <template v-if="data">
      <p v-if="!data.adopted" class="mt-2">{{ gettext('None was adopted.') }}</p>
      <template v-else>
        <p class="mt-2">{{ data.adopted.source ? gettext('Adopted %{at} by %{by}, from %{source}.', { at: moment(data.adopted.at), by: data.adopted.by, source: data.adopted.source }) : gettext('Adopted %{at} by %{by}.', { at: moment(data.adopted.at), by: data.adopted.by }) }}</p>
        <p v-if="data.outdated" class="mt-1 text-rust">{{ gettext('It can’t be compared any more.') }} {{ data.outdated }}</p>
        <p v-else-if="!data.changes.length" class="mt-1">{{ gettext('The register is as it says.') }}</p>
        <table v-else class="mt-3 w-full text-left">
          <caption class="sr-only">{{ gettext('What differs from the charter') }}</caption>
          <thead><tr><th class="py-1 pr-4">{{ gettext('What') }}</th><th class="py-1 pr-4">{{ gettext('Name') }}</th><th class="py-1">{{ gettext('Difference') }}</th></tr></thead>
          <tbody>
            <tr v-for="change in data.changes" :key="`${change.part} ${change.name}`" class="border-t border-line align-top">
              <td class="py-1 pr-4 whitespace-nowrap">{{ partWords[change.part] ?? change.part }}</td><td class="py-1 pr-4">{{ change.name }}</td><td class="py-1">{{ difference(change) }}</td>
            </tr>
          </tbody>
        </table>
      </template>
    </template>
  </section>
</template>
