<script setup lang="ts">
import { BarChart, LineChart } from 'echarts/charts'
import { DataZoomComponent, GridComponent, TooltipComponent } from 'echarts/components'
import { init, use, type ECharts } from 'echarts/core'
import { CanvasRenderer } from 'echarts/renderers'
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import type { Remote } from '../answer'
import type { Column } from '../answer/reader'

/** The numbers of a list over a time or by a name. */
use([BarChart, LineChart, GridComponent, TooltipComponent, DataZoomComponent, CanvasRenderer])
const props = defineProps<{ reader: Remote; lists: { path: string; count: number }[]; version: number; dark: boolean }>()

const host = useTemplateRef<HTMLElement>('host')
const path = ref('')
const columns = ref<Column[]>([])
const label = ref('')
const number = ref('')
let chart: ECharts | undefined

const numbers = computed(() => columns.value.filter((c) => c.number))
const labels = computed(() => columns.value.filter((c) => c.path !== number.value))

async function read() {
  if (!props.lists.some((l) => l.path === path.value)) path.value = props.lists[0]?.path ?? ''
  columns.value = path.value ? (await props.reader.table(path.value)).columns : []
  const first = numbers.value[0]
  if (!numbers.value.some((c) => c.path === number.value)) number.value = first?.path ?? ''
  if (!labels.value.some((c) => c.path === label.value)) {
    label.value = labels.value.find((c) => /at$|on$|date|time|day/i.test(c.path))?.path ?? labels.value.find((c) => !c.number)?.path ?? labels.value[0]?.path ?? ''
  }
  await draw()
}

async function draw() {
  if (!host.value || !number.value || !label.value) return
  chart ??= init(host.value)
  const { labels: names, values } = await props.reader.series(label.value, number.value)
  const isTime = names.length > 0 && names.every((n) => /^\d{4}-\d\d-\d\d/.test(n))
  const style = getComputedStyle(host.value)
  const ink = style.getPropertyValue('--quiet')
  const line = style.getPropertyValue('--line')
  const points = isTime ? names.map((n, i) => [n, values[i]]).sort((a, b) => String(a[0]).localeCompare(String(b[0]))) : values
  chart.setOption({
    animation: !window.matchMedia('(prefers-reduced-motion: reduce)').matches,
    color: [`rgb(${style.getPropertyValue('--v-theme-primary')})`],
    grid: { left: 8, right: 24, top: 34, bottom: names.length > 60 ? 44 : 8, containLabel: true },
    tooltip: { trigger: 'axis' },
    dataZoom: names.length > 60 ? [{ type: 'slider', height: 18, bottom: 8 }] : [],
    xAxis: { type: isTime ? 'time' : 'category', data: isTime ? undefined : names, axisLabel: { color: ink, hideOverlap: true }, axisLine: { lineStyle: { color: line } } },
    yAxis: { type: 'value', name: number.value, nameTextStyle: { color: ink, align: 'left' }, axisLabel: { color: ink }, splitLine: { lineStyle: { color: line } } },
    series: [{ type: isTime && names.length > 12 ? 'line' : 'bar', data: points, showSymbol: names.length < 80, barMaxWidth: 36 }],
  }, true)
}

const sized = new ResizeObserver(() => chart?.resize())
onMounted(() => {
  if (host.value) sized.observe(host.value)
})
onBeforeUnmount(() => {
  sized.disconnect()
  chart?.dispose()
})
watch(() => [props.version, path.value], () => void read(), { immediate: true, flush: 'post' })
watch(() => [label.value, number.value, props.dark], () => void draw(), { flush: 'post' })
</script>

<template>
  <div class="frame">
    <div class="which">
      <label v-if="lists.length > 1">List <select v-model="path" aria-label="List"><option v-for="l in lists" :key="l.path" :value="l.path">{{ l.path }} ({{ l.count }})</option></select></label>
      <label v-if="numbers.length">Number <select v-model="number" aria-label="Number"><option v-for="c in numbers" :key="c.path" :value="c.path">{{ c.path || 'value' }}</option></select></label>
      <label v-if="numbers.length">By <select v-model="label" aria-label="By"><option v-for="c in labels" :key="c.path" :value="c.path">{{ c.path || 'value' }}</option></select></label>
    </div>
    <p v-if="!numbers.length" class="none">There is no list with a number in this answer.</p>
    <div v-show="numbers.length" ref="host" class="chart" data-test="chart" role="img" :aria-label="`${number} by ${label}`" />
  </div>
</template>

<style scoped>
.frame { height: 100%; display: flex; flex-direction: column; font-size: 12.5px; }
.which { display: flex; flex-wrap: wrap; gap: 4px 16px; padding: 4px 12px; color: var(--quiet); border-bottom: 1px solid var(--line); }
.none { padding: 10px 12px; color: var(--quiet); }
.chart { flex: 1; min-height: 160px; }
</style>
