<script setup lang="ts">
import { RouterLink } from 'vue-router'

import PageHead from './PageHead.vue'
</script>

<template>
  <PageHead title="There is nothing here" about="The address may have been cut off, or what it named is not for you to see." />
  <RouterLink to="/" class="button">Go to today</RouterLink>
</template>
