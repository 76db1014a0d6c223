<script setup lang="ts">
import { RouterLink } from 'vue-router'

import { gettext } from '@/frame/language'
import PageHead from './PageHead.vue'
</script>

<template>
  <PageHead :title="gettext('Page not found')" :about="gettext('The address may be incomplete, or you may not have access to the page.')" />
  <RouterLink to="/" class="button">{{ gettext('Go to Today') }}</RouterLink>
</template>
