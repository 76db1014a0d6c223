<script setup lang="ts">
import { gettext } from '@/frame/language'
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

defineProps<{ open: boolean; title: string }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <Dialog :open="open" class="relative z-50" @close="$emit('close')">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 overflow-y-auto p-4 sm:p-8">
      <DialogPanel class="mx-auto w-full max-w-2xl rounded-xl border border-line bg-card p-5 shadow-2xl sm:p-6">
        <div class="flex items-start gap-4">
          <DialogTitle class="flex-1 font-display text-xl font-semibold">{{ title }}</DialogTitle>
          <button type="button" class="button -mt-1 -mr-1 border-transparent" @click="$emit('close')">{{ gettext('Close') }}</button>
        </div>
        <slot />
      </DialogPanel>
    </div>
  </Dialog>
</template>
