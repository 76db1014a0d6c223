<script setup lang="ts">
import { onBeforeUnmount, onMounted, ref } from 'vue'

import { gettext } from '@/frame/language'
import ModalBox from './ModalBox.vue'

const KEYS: [string, string][] = [
  ['/ or Ctrl-K', gettext('Find anything: people, accounts, flags, pages')],
  ['?', gettext('This help')],
  [gettext('Tab, Shift-Tab'), gettext('Go to the next or the previous control')],
  ['Enter', gettext('Open or press what has the focus')],
  [gettext('Esc'), gettext('Close a dialog or a menu')],
  [gettext('Arrow keys'), gettext('Go through a menu, a list of suggestions, or the picture of paths')],
  [gettext('In a review'), gettext('Up and down: another item. k: keep, t: trim, r: revoke, p: pass on, a: ask, x: pick, u: undo')],
]
const isOpen = ref(false)

function onKey(event: KeyboardEvent): void {
  const isWriting = (event.target as HTMLElement | null)?.closest('input, textarea, select, [contenteditable]')
  if (event.key !== '?' || isWriting || document.querySelector('[role=dialog]')) return
  event.preventDefault()
  isOpen.value = true
}
onMounted(() => window.addEventListener('keydown', onKey))
onBeforeUnmount(() => window.removeEventListener('keydown', onKey))
</script>

<template>
  <ModalBox :open="isOpen" :title="gettext('Keyboard')" @close="isOpen = false">
    <dl class="mt-3 grid grid-cols-[auto_1fr] gap-x-6 gap-y-2">
      <template v-for="[keys, what] in KEYS" :key="keys">
        <dt class="font-semibold">{{ keys }}</dt>
        <dd>{{ what }}</dd>
      </template>
    </dl>
  </ModalBox>
</template>
