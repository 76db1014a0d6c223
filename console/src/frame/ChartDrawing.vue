<script setup lang="ts">
import { BarChart, CustomChart, LineChart } from 'echarts/charts'
import { GridComponent, MarkLineComponent, TooltipComponent } from 'echarts/components'
import { init, use, type ECharts, type EChartsCoreOption } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'

use([BarChart, CustomChart, LineChart, GridComponent, MarkLineComponent, TooltipComponent, SVGRenderer])

const props = defineProps<{ option: EChartsCoreOption; label: string; height: number }>()
const place = useTemplateRef('place')
let chart: ECharts | null = null
const follow = new ResizeObserver(() => chart?.resize())

onMounted(() => {
  if (!place.value) return
  chart = init(place.value, null, { renderer: 'svg' })
  chart.setOption(props.option)
  follow.observe(place.value)
})
watch(
  () => props.option,
  (option) => chart?.setOption(option, { notMerge: true }),
)
watch(
  () => props.height,
  () => requestAnimationFrame(() => chart?.resize()),
)
onBeforeUnmount(() => {
  follow.disconnect()
  chart?.dispose()
})
</script>

<template>
  <div ref="place" role="img" :aria-label="label" :style="{ height: `${height}px` }" />
</template>
