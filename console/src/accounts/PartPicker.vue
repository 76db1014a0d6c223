<script setup lang="ts">
import { computed } from 'vue'

import type { Part } from '@/service/types'
import { counted } from '@/frame/words'

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
    <legend class="font-semibold">Which parts</legend>
    <label class="mr-5"><input v-model="whole" type="radio" :value="true" class="accent-moss" /> the whole account</label>
    <label><input v-model="whole" type="radio" :value="false" class="accent-moss" /> only some</label>
    <template v-if="!whole">
      <div class="mt-2 grid gap-x-4 gap-y-1 rounded-md bg-sunk p-3 sm:grid-cols-2">
        <label v-for="part in parts" :key="part.id" class="flex items-baseline gap-2">
          <input v-model="chosen" type="checkbox" :value="part.id" class="accent-moss" />
          <span>{{ part.name }} <span class="text-sm text-soft">{{ part.group ? `group of ${part.resources}` : part.kind }}, shared by {{ part.holders }}<template v-if="part.public">, public</template></span></span>
        </label>
      </div>
      <p class="mt-1 text-soft" role="status">
        {{ counted(chosen.length, 'part') }} chosen.
        <button type="button" class="link" @click="every">{{ isEvery ? 'Only one' : `All ${resources.length} one by one` }}</button>
      </p>
    </template>
  </fieldset>
</template>
