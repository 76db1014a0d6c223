<script setup lang="ts">
import { useIntersectionObserver } from '@vueuse/core'
import type { EChartsCoreOption } from 'echarts/core'
import { defineAsyncComponent, ref, useTemplateRef } from 'vue'

/** A chart in a place of its own height. What draws it is large, and is loaded when the place comes into view. */
defineProps<{ option: EChartsCoreOption; label: string; height: number }>()
const ChartDrawing = defineAsyncComponent(() => import('./ChartDrawing.vue'))
const place = useTemplateRef('place')
const isSeen = ref(false)
const { stop } = useIntersectionObserver(
  place,
  (entries) => {
    if (!entries.some((entry) => entry.isIntersecting)) return
    isSeen.value = true
    stop()
  },
  { rootMargin: '100px' },
)
</script>

<template>
  <div ref="place" class="overflow-hidden" :style="{ minHeight: `${height}px` }">
    <ChartDrawing v-if="isSeen" :option="option" :label="label" :height="height" />
  </div>
</template>
