<script setup lang="ts">
import { computed } from 'vue'

import { gettext, ngettext } from '@/frame/language'
import type { Part } from '@/service/types'

const props = defineProps<{ parts: Part[] }>()
const chosen = defineModel<string[]>({ required: true })
const resources = computed(() => props.parts.filter((part) => !part.group))
const whole = computed({
  get: () => chosen.value.length === 0,
  set: (all) => (chosen.value = all ? [] : resources.value.slice(0, 1).map((part) => part.id)),
})
const isEvery = computed(() => resources.value.length > 0 && resources.value.every((part) => chosen.value.includes(part.id)))

function every(): void {
  chosen.value = isEvery.value ? resources.value.slice(0, 1).map((part) => part.id) : resources.value.map((part) => part.id)
}
</script>

<template>
  <fieldset v-if="parts.length">
    <legend class="font-semibold">{{ gettext('Which parts') }}</legend>
    <label class="mr-5"><input v-model="whole" type="radio" :value="true" class="accent-moss" /> {{ gettext('the whole account') }}</label>
    <label><input v-model="whole" type="radio" :value="false" class="accent-moss" /> {{ gettext('only some') }}</label>
    <template v-if="!whole">
      <div class="mt-2 grid gap-x-4 gap-y-1 rounded-md bg-sunk p-3 sm:grid-cols-2">
        <label v-for="part in parts" :key="part.id" class="flex items-baseline gap-2">
          <input v-model="chosen" type="checkbox" :value="part.id" class="accent-moss" />
          <span>{{ part.name }} <span class="text-sm text-soft">{{ gettext('%{group}, shared by %{holders}', { group: part.group ? gettext('group of %{resources}', { resources: part.resources }) : part.kind, holders: part.holders }) }}<template v-if="part.public">{{ gettext(', public') }}</template></span></span>
        </label>
      </div>
      <p class="mt-1 text-soft" role="status">
        {{ gettext('%{count} chosen.', { count: ngettext('%{n} part', '%{n} parts', chosen.length) }) }}
        <button type="button" class="link" @click="every">{{ isEvery ? gettext('Only one') : gettext('All %{resources} one by one', { resources: resources.length }) }}</button>
      </p>
    </template>
  </fieldset>
</template>
