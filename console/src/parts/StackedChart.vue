<script setup lang="ts">
import { BarChart } from 'echarts/charts'
import { GridComponent, LegendComponent, TooltipComponent } from 'echarts/components'
import { init, use, type EChartsType } from 'echarts/core'
import { SVGRenderer } from 'echarts/renderers'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'
import { useDark } from '../dark'

/** Columns that stand beside each other, each of several parts, one on the other. */
const props = defineProps<{ labels: string[]; series: { name: string; values: number[]; colour?: string }[] }>()
use([BarChart, GridComponent, LegendComponent, TooltipComponent, SVGRenderer])

const box = ref<HTMLElement>()
const { dark } = useDark()
let chart: EChartsType | undefined
const resized = new ResizeObserver(() => chart?.resize())
// Eight that stay apart for who sees colours otherwise, and on either ground (after Okabe and Ito).
const colours = ['#c4622a', '#0072b2', '#009e73', '#cc79a7', '#d7a000', '#56b4e9', '#8f6fd0', '#7a7268']

function draw() {
  if (!box.value) return
  chart ??= init(box.value, undefined, { renderer: 'svg' })
  const style = getComputedStyle(document.documentElement)
  const ink = style.getPropertyValue('--faint').trim()
  const text = { color: ink, fontFamily: style.fontFamily, fontSize: 13 }
  chart.setOption(
    {
      animation: false,
      color: props.series.map((s, n) => s.colour ?? colours[n % colours.length]!),
      textStyle: text,
      grid: { left: 44, right: 8, top: 12, bottom: props.series.length > 1 ? 56 : 28 },
      legend: props.series.length > 1 ? { bottom: 0, textStyle: text, itemWidth: 12, itemHeight: 10, type: 'scroll' } : undefined,
      tooltip: { trigger: 'axis', axisPointer: { type: 'shadow' } },
      xAxis: {
        type: 'category',
        data: props.labels,
        axisLabel: { color: ink },
        axisTick: { show: false },
        axisLine: { lineStyle: { color: ink } },
      },
      yAxis: { type: 'value', minInterval: 1, axisLabel: { color: ink }, splitLine: { lineStyle: { color: style.getPropertyValue('--line').trim() } } },
      series: props.series.map((s) => ({ type: 'bar', stack: 'all', name: s.name, data: s.values, barCategoryGap: '25%' })),
    },
    true,
  )
}
onMounted(() => {
  draw()
  resized.observe(box.value!)
})
onBeforeUnmount(() => {
  resized.disconnect()
  chart?.dispose()
})
watch(() => [props.labels, props.series, dark()], draw, { flush: 'post' })
</script>

<template>
  <div ref="box" class="chart" />
</template>

<style scoped>
.chart {
  height: 15rem;
}
</style>
