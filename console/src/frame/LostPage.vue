<script setup lang="ts">
import { RouterLink } from 'vue-router'

import PageHead from './PageHead.vue'
</script>

<template>
  <PageHead title="Page not found" about="The address may be incomplete, or you may not have access to the page." />
  <RouterLink to="/" class="button">Go to Today</RouterLink>
</template>
