<script setup lang="ts">
import { Dialog, DialogPanel, DialogTitle } from '@headlessui/vue'

defineProps<{ open: boolean; title: string }>()
defineEmits<{ close: [] }>()
</script>

<template>
  <Dialog :open="open" class="relative z-50" @close="$emit('close')">
    <div class="fixed inset-0 bg-black/50" aria-hidden="true" />
    <div class="fixed inset-0 overflow-y-auto p-4 sm:p-8">
      <DialogPanel class="mx-auto w-full max-w-2xl rounded-xl border border-line bg-card p-5 shadow-2xl sm:p-6">
        <DialogTitle class="font-display text-xl font-semibold">{{ title }}</DialogTitle>
        <slot />
      </DialogPanel>
    </div>
  </Dialog>
</template>
