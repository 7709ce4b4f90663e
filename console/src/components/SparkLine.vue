<script setup lang="ts">
import { computed } from 'vue'

/** A small plot of values over the last hour, minute by minute; a minute without any is a gap. */
const props = defineProps<{ points: { at: string; value: number; wrong?: boolean }[]; label: string; width: number; height: number }>()
const most = computed(() => Math.max(0.001, ...props.points.map((p) => p.value)))
const bars = computed(() => {
  const now = Math.floor(Date.now() / 60_000)
  return props.points.map((p) => {
    const back = now - Math.floor(new Date(p.at).getTime() / 60_000)
    const h = Math.max(1.5, (p.value / most.value) * (props.height - 2))
    return { x: ((59 - back) / 60) * props.width, y: props.height - h, h, wrong: p.wrong }
  }).filter((b) => b.x >= 0)
})
</script>

<template>
  <svg :width="width" :height="height" class="spark" role="img" :aria-label="label">
    <title>{{ label }}</title>
    <line x1="0" :x2="width" :y1="height - 0.5" :y2="height - 0.5" class="base" />
    <rect v-for="(b, i) in bars" :key="i" :x="b.x" :y="b.y" :width="Math.max(1.5, width / 60 - 1)" :height="b.h" :class="{ wrong: b.wrong }" />
  </svg>
</template>

<style scoped>
.spark { display: block; flex: none; }
rect { fill: var(--source, var(--ink)); }
.wrong { fill: rgb(var(--v-theme-error)); }
.base { stroke: var(--line); }
</style>
