<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import type { Path } from '@/service/types'
import { ago, day, untilWords } from '@/frame/words'

import HolderName from '@/people/HolderName.vue'
import ReachMark from '@/frame/ReachMark.vue'

defineProps<{ paths: Path[]; by: 'holder' | 'account'; canEnd: boolean; canChange?: boolean; asked?: string }>()
defineEmits<{ end: [path: Path]; change: [path: Path]; extend: [path: Path, day: string] }>()

const DAY = 86_400_000
/** The day to which an end that is near is moved by one click: for as long again, a week at least and 90 days at most. */
function longer(path: Path): string {
  if (!path.until || path.hops.length > 1 || Date.parse(path.until) - Date.now() > 30 * DAY) return ''
  const last = Date.parse(path.until) - 1
  const span = Math.min(90 * DAY, Math.max(7 * DAY, last - Date.parse(path.given_at ?? path.until)))
  return new Date(last + span).toISOString().slice(0, '2026-03-31'.length)
}

/** A grant that others share ends for all of them; the button says so before the preview names them. */
function endLabel(path: Path): string {
  const last = path.hops.at(-1)?.holder
  return last && last.id !== path.holder.id ? last.kind === 'team' ? gettext('End for the team') : gettext('End for the account') : gettext('End')
}
</script>

<template>
  <ul class="card divide-y divide-line">
    <li v-for="(path, index) in paths" :key="index" :id="path.grant_id ? `grant-${path.grant_id}` : undefined" tabindex="-1" :class="{ 'border-l-4 border-l-brass bg-brass-wash': asked && path.grant_id === asked }" class="grid gap-x-4 gap-y-1 px-5 py-3 md:grid-cols-[minmax(0,2.2fr)_minmax(0,2fr)_8rem_minmax(0,1.6fr)_11.5rem] md:items-start">
      <div class="min-w-0">
        <HolderName v-if="by === 'holder'" :holder="path.holder" class="font-medium" />
        <RouterLink v-else :to="`/accounts/${path.account.id}`" class="link font-medium">{{ path.account.name }}</RouterLink>
        <span v-if="path.left" class="ml-1.5 rounded-sm bg-rust-wash px-1.5 py-px text-xs font-semibold text-rust" :title="gettext('The system may still let them in.')">{{ gettext('has left; may still get in') }}</span>
        <span v-if="!path.recorded" class="ml-1.5 rounded-sm bg-rust-wash px-1.5 py-px text-xs font-semibold text-rust">{{ gettext('unrecorded') }}</span>
        <span v-if="path.owed === 'give'" class="ml-1.5 rounded-sm bg-brass-wash px-1.5 py-px text-xs font-semibold text-brass" :title="gettext('Accepted; its system does not have it yet.')">{{ gettext('not given yet') }}</span>
        <span v-if="path.revoking" class="ml-1.5 rounded-sm bg-brass-wash px-1.5 py-px text-xs font-semibold text-brass">{{ gettext('revoking') }}</span>
        <p v-if="path.hops.length > 1" class="text-sm text-soft">{{ path.words }}</p>
      </div>
      <div>
        {{ path.level }}<span v-if="path.part" class="text-soft">{{ ` ${gettext('only on %{part}', { part: path.part })}` }}</span>
        <p class="text-sm text-soft">{{ path.sentence }}</p>
      </div>
      <ReachMark :reach="path.reach" />
      <div class="text-sm">
        <template v-if="path.owns"><span class="text-soft">{{ gettext('owner') }}</span></template>
        <template v-else>
          <p>{{ gettext('Until: %{path}', { path: untilWords(path) }) }}</p>
          <p v-if="path.hours">{{ path.hours }}</p>
          <p class="text-soft">{{ gettext('Used: %{last_used_at}', { last_used_at: ago(path.last_used_at) }) }}</p>
          <p v-if="path.given_by" class="text-soft">{{ gettext('Given by %{given_by}', { given_by: path.given_by }) }}</p>
          <p v-if="path.recorded_by" class="text-soft">{{ gettext('Recorded by %{recorded_by}', { recorded_by: path.recorded_by }) }}<template v-if="!path.given_by">{{ gettext('; who gave it is not known') }}</template></p>
        </template>
      </div>
      <div v-if="canEnd && path.grant_id && !path.revoking" class="flex flex-wrap gap-1">
        <button class="button-end whitespace-nowrap" @click="$emit('end', path)">
          {{ endLabel(path) }}<span class="sr-only">{{ ` ${gettext('%{level} of %{holder}', { level: path.level, holder: path.holder.name })}` }}</span>
        </button>
        <button v-if="canChange && path.hops.length === 1" class="button whitespace-nowrap" @click="$emit('change', path)">{{ gettext('Change') }}<span class="sr-only">{{ ` ${gettext('%{level} of %{holder}', { level: path.level, holder: path.holder.name })}` }}</span></button>
        <button v-if="canChange && longer(path)" class="button whitespace-nowrap px-2" @click="$emit('extend', path, longer(path))">{{ gettext('Extend to %{path}', { path: day(longer(path)) }) }}<span class="sr-only">{{ ` ${gettext('for %{holder}', { holder: path.holder.name })}` }}</span></button>
      </div>
      <span v-else />
    </li>
  </ul>
</template>
