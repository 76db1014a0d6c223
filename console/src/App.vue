<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import { RouterView, useRoute } from 'vue-router'

import { gettext } from '@/frame/language'
import { useLive } from '@/service/live'
import { me } from '@/identity/me'
import { waiting } from '@/identity/proof'
import AppHeader from '@/frame/AppHeader.vue'
import InsideBar from '@/frame/InsideBar.vue'

// Loaded when a proof is asked for.
const ProofDialog = defineAsyncComponent(() => import('@/identity/ProofDialog.vue'))

useLive()
const route = useRoute()
const withHeader = computed(() => me.value !== null && !route.meta.open)
</script>

<template>
  <a href="#main" class="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-card focus:p-3">{{ gettext('Skip to the page') }}</a>
  <AppHeader v-if="withHeader" />
  <InsideBar v-if="withHeader" />
  <main id="main" tabindex="-1" class="mx-auto max-w-[1240px] px-4 pb-16 outline-none sm:px-6" :class="withHeader ? 'pt-6' : ''">
    <RouterView :key="route.path + (me?.inside?.account.id ?? '')" />
  </main>
  <ProofDialog v-if="waiting" />
</template>
