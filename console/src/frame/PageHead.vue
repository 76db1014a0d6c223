<script setup lang="ts">
defineProps<{ title: string; about?: string }>()
</script>

<template>
  <div class="mb-4 flex flex-wrap items-end gap-x-4 gap-y-2">
    <div class="min-w-0 flex-1 basis-72">
      <h1 class="text-3xl">{{ title }}</h1>
      <p v-if="about" class="mt-0.5 max-w-3xl text-soft">{{ about }}</p>
    </div>
    <slot />
  </div>
</template>
