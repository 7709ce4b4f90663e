<script setup lang="ts">
import { computed } from 'vue'

/** How much was asked in each of the last hours, and how much of it failed. */
const props = defineProps<{ hours: { hour: string; asked: number; failed: number; codes: Record<string, number>; p95?: number }[]; span: number; label: string }>()
const bars = computed(() => {
  const known = new Map(props.hours.map((h) => [new Date(h.hour).getTime(), h]))
  const now = Math.floor(Date.now() / 3_600_000) * 3_600_000
  return Array.from({ length: props.span }, (_, i) => {
    const at = now - (props.span - 1 - i) * 3_600_000
    return { at, asked: 0, failed: 0, codes: {}, p95: undefined, ...known.get(at) }
  })
})
const most = computed(() => Math.max(1, ...bars.value.map((h) => h.asked)))
const high = (n: number) => `${n ? Math.max(2, (28 * n) / most.value) : 0}px`
const codes = (of: Record<string, number>) => (Object.keys(of).length ? ` (${Object.entries(of).sort((a, b) => b[1] - a[1]).map(([code, n]) => `${code} ${n}`).join(', ')})` : '')
const clock = new Intl.DateTimeFormat(undefined, { weekday: 'short', hour: '2-digit', minute: '2-digit' })
</script>

<template>
  <div class="hours" :class="{ many: span > 100 }" role="img" :aria-label="`${label}, ${most} at most`">
    <span v-for="h in bars" :key="h.at" class="hour" :title="`${clock.format(h.at)}: ${h.asked} asked, ${h.failed} failed${codes(h.codes)}${h.p95 === undefined ? '' : `, 95 % within ${h.p95 < 10 ? h.p95.toFixed(2) : Math.round(h.p95)} ms`}`">
      <i class="asked" :style="{ height: high(h.asked - h.failed) }" /><i class="failed" :style="{ height: high(h.failed) }" />
    </span>
  </div>
</template>

<style scoped>
.hours { display: inline-flex; align-items: flex-end; gap: 1px; height: 30px; border-bottom: 1px solid var(--line); }
.hour { display: flex; flex-direction: column-reverse; width: 7px; height: 100%; }
.many .hour { width: 2px; }
.asked { background: var(--quiet); display: block; }
.failed { background: rgb(var(--v-theme-error)); display: block; }
</style>
