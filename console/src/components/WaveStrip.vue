<script setup lang="ts">
import { mdiChevronDown, mdiChevronUp } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef } from 'vue'
import type { Call, Explanation, PlannedRequest } from '../client'
import { sourceColour } from '../sources'
import CostMenu from './CostMenu.vue'
import { bytes, count, time } from '../words'

/**
 * The store requests of an operation on a time axis, a lane for each source: planned they are hollow, made they are full. One that is
 * pointed at tells more, and says so to others, which light up what came of it.
 */
/** A request as it was made; or, of many answers, as it usually is: in which share of them it was made, and in which it failed. */
type Made = Call & { usually?: { share: number; failed: number; most: number } }

const props = defineProps<{ calls: Made[]; plan?: Explanation; running: boolean; millis: number; lit: number[]; pinned?: number; folded: boolean }>()
const emit = defineEmits<{ point: [id: number | undefined]; pin: [id: number | undefined]; fold: [] }>()

interface Bar {
  id: number
  source: string
  asks: string
  wave: number
  call?: Made
  plan?: PlannedRequest
  row: number
  from: number // shares of the axis
  to: number
}

const gutter = 112
const rowHeight = 23
const axisHeight = 20

const canvas = useTemplateRef<HTMLElement>('canvas')
const width = ref(800)
const sized = new ResizeObserver(([entry]) => (width.value = entry?.contentRect.width ?? 800))
onMounted(() => canvas.value && sized.observe(canvas.value))
onBeforeUnmount(() => sized.disconnect())

const made = computed(() => props.calls.length > 0)
const planned = computed(() => props.plan?.waves.flatMap((w) => w.requests.map((r) => ({ ...r, wave: w.wave }))) ?? [])
const waves = computed(() => (made.value ? new Set(props.calls.map((c) => c.wave)).size : (props.plan?.waves.length ?? 0)))
const usual = computed(() => props.calls.some((c) => c.usually))
const end = computed(() => Math.max(0.1, ...props.calls.map((c) => c.at + c.ms)))

const bars = computed<Bar[]>(() => {
  const list: Omit<Bar, 'row'>[] = []
  if (made.value) {
    for (const call of props.calls) {
      list.push({ id: call.id, source: call.source, asks: call.asks, wave: call.wave, call, plan: planned.value.find((r) => r.id === call.id), from: call.at / end.value, to: (call.at + call.ms) / end.value })
    }
  } else {
    const n = Math.max(1, waves.value)
    for (const r of planned.value) list.push({ id: r.id, source: r.source, asks: r.asks || r.problem || '', wave: r.wave, plan: r, from: (r.wave - 1) / n, to: (r.wave - 0.12) / n })
  }
  // A lane for each source, in the order of their first requests; within it each request has its row.
  const order = [...new Set(list.map((b) => b.source))]
  return list
    .sort((a, b) => order.indexOf(a.source) - order.indexOf(b.source) || a.from - b.from || a.id - b.id)
    .map((b, row) => ({ ...b, row }))
})
const lanes = computed(() => {
  const found: { source: string; row: number; rows: number }[] = []
  for (const bar of bars.value) {
    const last = found.at(-1)
    if (last?.source === bar.source) last.rows++
    else found.push({ source: bar.source, row: bar.row, rows: 1 })
  }
  return found
})

const room = computed(() => Math.max(100, width.value - gutter - 16))
const x = (share: number) => gutter + share * room.value
const y = (row: number) => axisHeight + row * rowHeight + 3
const height = computed(() => axisHeight + bars.value.length * rowHeight + 6)

/** Marks of the axis: at round times. */
const ticks = computed(() => {
  if (!made.value) return []
  const rough = end.value / Math.max(2, room.value / 110)
  const power = 10 ** Math.floor(Math.log10(rough))
  const step = [1, 2, 5, 10].map((m) => m * power).find((s) => s >= rough) ?? rough
  const list: { at: number; text: string }[] = []
  for (let t = 0; t <= end.value * 1.001; t += step) list.push({ at: t / end.value, text: `${Number(t.toPrecision(3))} ms` })
  return list
})

/** Where each wave begins. */
const starts = computed(() => {
  const found = new Map<number, number>()
  for (const b of bars.value) found.set(b.wave, Math.min(found.get(b.wave) ?? 1, b.from))
  return [...found].sort((a, b) => a[0] - b[0]).map(([wave, at]) => ({ wave, at }))
})

/** Around the requests of a transaction: all of them, or none. */
const brackets = computed(() => {
  const found = new Map<string, Bar[]>()
  for (const b of bars.value) if (b.plan?.transaction && !b.plan.apart && !b.plan.elsewhere) found.set(`${b.source} ${b.plan.transaction}`, [...(found.get(`${b.source} ${b.plan.transaction}`) ?? []), b])
  return [...found].map(([key, list]) => ({
    key, name: list[0]?.plan?.transaction ?? '', left: x(Math.min(...list.map((b) => b.from))) - 7, right: x(Math.max(...list.map((b) => b.to))) + 7,
    top: y(Math.min(...list.map((b) => b.row))) - 2, bottom: y(Math.max(...list.map((b) => b.row))) + 19,
  }))
})

/** From the end of what a request waited for to its beginning. */
const threads = computed(() => {
  const list: { path: string; lit: boolean }[] = []
  for (const bar of bars.value) {
    for (const id of bar.plan?.after ?? []) {
      const feeder = bars.value.find((b) => b.id === id)
      if (!feeder) continue
      const x1 = x(feeder.to)
      const x2 = Math.max(x(bar.from), x1 + 4)
      const y1 = y(feeder.row) + 8
      const y2 = y(bar.row) + 8
      list.push({ path: `M${x1},${y1} C${x1 + 10},${y1} ${x2 - 10},${y2} ${x2},${y2}`, lit: isLit(bar) || isLit(feeder) })
    }
  }
  return list
})

const isLit = (bar: Bar) => props.lit.includes(bar.id) || props.pinned === bar.id
const told = computed(() => bars.value.find((b) => b.id === (props.pinned ?? props.lit[0])))


const percent = (share: number) => (share < 0.01 ? 'below 1 %' : `${Math.round(100 * share)} %`)

function sizes(bar: Bar): string {
  const c = bar.call
  if (!c) {
    const r = bar.plan?.reads[0]
    const parts = []
    if (bar.plan?.eachKey) parts.push('each key')
    else if (bar.plan?.statements) parts.push(count(bar.plan.statements, 'statement'))
    else if (bar.plan?.pages) parts.push(`up to ${bar.plan.pages} pages`)
    if (r?.keys !== undefined) parts.push(`≤ ${count(r.keys, 'key')}`)
    if (r?.records !== undefined) parts.push(`≤ ${count(r.records, 'record')}`)
    return parts.join(' · ')
  }
  const parts = [time(c.ms)]
  if (c.requests > 1) parts.push(count(c.requests, 'request'))
  if (c.keys) parts.push(count(c.keys, 'key'))
  if (c.calls) parts.push(count(c.calls, 'call'))
  parts.push(c.failed ? 'failed' : count(c.records, c.calls ? 'result' : 'record'))
  if (c.usually && c.usually.share < 0.995) parts.push(`in ${Math.round(100 * c.usually.share)} % of answers`)
  if (c.usually?.failed) parts.push(`failed in ${percent(c.usually.failed)}`)
  return parts.join(' · ')
}

/** The label stands behind its bar, or before it where there is no room behind. */
function labelStyle(bar: Bar) {
  const behind = x(1) - x(bar.to)
  if ((bar.to - bar.from) * room.value > 260) return { left: `${x(bar.from) + 8}px`, maxWidth: `${(bar.to - bar.from) * room.value - 14}px` }
  if (behind > 200 || behind > bar.from * room.value) return { left: `${x(bar.to) + 6}px`, maxWidth: `${Math.max(60, behind + 8)}px` }
  return { right: `${width.value - x(bar.from) + 6}px`, maxWidth: `${Math.max(60, bar.from * room.value - 8)}px` }
}
const within = (bar: Bar) => (bar.to - bar.from) * room.value > 260

const total = computed(() => (made.value ? Math.round(10 * props.calls.reduce((n, c) => n + c.requests * (c.usually?.share ?? 1), 0)) / 10 : (props.plan?.requests ?? 0)))
const refused = computed(() => (!made.value && props.plan?.limit && props.plan.requests > props.plan.limit ? `, more than the limit of ${props.plan.limit}: it is refused` : ''))
</script>

<template>
  <section class="strip" aria-label="Store requests">
    <div class="head">
      <button type="button" class="fold" :aria-expanded="!folded" data-test="fold-strip" @click="emit('fold')">
        <v-icon :icon="folded ? mdiChevronUp : mdiChevronDown" size="16" />
        <span v-if="bars.length" class="sum" data-test="wave-summary">{{ usual ? 'usually asks' : made ? 'asked' : 'would ask' }} {{ !made && plan?.several ? 'at least ' : '' }}{{ count(total, 'store request') }} in {{ count(waves, 'wave') }}{{ refused }}</span>
        <span v-else-if="plan" class="sum" data-test="wave-summary">would ask no store</span>
        <span v-else class="quiet">{{ running ? 'Asking …' : 'Which store is asked what, and when: run an operation, or plan it.' }}</span>
        <span v-if="made" class="figure">{{ time(end) }} at the stores</span>
      </button>
      <CostMenu v-if="plan?.cost" :plan="plan" />
      <span v-if="plan?.told" class="figure wide">{{ plan.told }}</span>
    </div>
    <slot />
    <div v-show="!folded && bars.length" class="open">
      <div ref="canvas" class="canvas" @mouseleave="emit('point', undefined)">
        <div class="drawing" :style="{ height: `${height}px` }">
          <div v-for="lane in lanes" :key="lane.row" class="lane" :style="{ top: `${y(lane.row) - 3}px`, height: `${lane.rows * rowHeight}px`, '--source': sourceColour(lane.source) }">
            <span class="lane-name" :title="lane.source">{{ lane.source }}</span>
          </div>
          <svg class="threads" :width="width" :height="height" aria-hidden="true">
            <line v-for="t in ticks" :key="t.text" :x1="x(t.at)" :x2="x(t.at)" :y1="axisHeight - 4" :y2="height" class="tick" />
            <path v-for="b in brackets" :key="b.key" class="bracket" data-test="transaction" :d="`M${b.left + 5},${b.top} H${b.left} V${b.bottom} H${b.left + 5} M${b.right - 5},${b.top} H${b.right} V${b.bottom} H${b.right - 5}`" />
            <path v-for="(t, i) in threads" :key="i" :d="t.path" class="thread" :class="{ lit: t.lit }" />
          </svg>
          <span v-for="t in ticks" :key="t.text" class="tick-text" :class="{ last: t.at > 0.97 }" :style="{ left: `${x(t.at)}px` }">{{ t.text }}</span>
          <span v-for="w in starts" :key="w.wave" class="wave" :class="{ planned: !made }" :style="{ left: `${x(w.at)}px` }" data-test="wave">{{ made ? '' : `wave ${w.wave}` }}</span>
          <template v-for="bar in bars" :key="bar.id">
            <button
              type="button" class="bar" :class="{ planned: !bar.call, failed: bar.call?.failed, lit: isLit(bar), writes: bar.plan?.transaction }" data-test="request"
              :style="{ left: `${x(bar.from)}px`, width: `${Math.max(4, (bar.to - bar.from) * room)}px`, top: `${y(bar.row)}px`, '--source': sourceColour(bar.source) }"
              :aria-label="`${bar.source}: ${bar.asks}, wave ${bar.wave}, ${sizes(bar)}`" :aria-pressed="pinned === bar.id"
              @mouseenter="emit('point', bar.id)" @focus="emit('point', bar.id)" @blur="emit('point', undefined)" @click="emit('pin', pinned === bar.id ? undefined : bar.id)"
            />
            <span class="label" :class="{ within: within(bar) && bar.call && !bar.call.failed, failed: within(bar) && bar.call?.failed, faint: lit.length && !isLit(bar) }" :style="{ ...labelStyle(bar), top: `${y(bar.row)}px` }"><b>{{ bar.asks }}</b> {{ sizes(bar) }}</span>
          </template>
        </div>
      </div>
      <aside v-if="told" class="told" data-test="request-told" :style="{ '--source': sourceColour(told.source) }">
        <div class="told-head"><span class="dot" />{{ told.source }}<span class="quiet">wave {{ told.wave }}</span></div>
        <dl>
          <template v-if="told.call"><dt>took</dt><dd>{{ time(told.call.ms) }}, from {{ time(told.call.at) }}<span v-if="told.call.usually" class="quiet"> at most {{ time(told.call.usually.most) }}</span></dd></template>
          <template v-if="told.call || told.plan?.reads[0]?.keys !== undefined"><dt>keys</dt><dd>{{ told.call ? told.call.keys.toLocaleString('en') : '' }}<span v-if="told.plan?.reads[0]?.keys !== undefined" class="quiet"> planned ≤ {{ told.plan.reads[0].keys.toLocaleString('en') }}</span></dd></template>
          <dt>records</dt><dd>{{ told.call ? told.call.records.toLocaleString('en') : '' }}<span v-if="told.plan?.reads[0]?.records !== undefined" class="quiet"> planned ≤ {{ told.plan.reads.reduce((n, r) => n + (r.records ?? 0), 0).toLocaleString('en') }}</span></dd>
          <template v-if="told.call?.bytes"><dt>bytes</dt><dd title="Of the values of the records">{{ bytes(told.call.bytes) }}</dd></template>
          <template v-if="told.plan?.transaction"><dt>within</dt><dd>the transaction of {{ told.plan.transaction }}</dd></template>
          <template v-if="told.plan"><dt>for</dt><dd class="mono">{{ told.plan.reads.flatMap((r) => r.fields).join(', ') }}</dd></template>
        </dl>
        <pre v-if="told.plan?.statement" class="statement" tabindex="0" aria-label="Statement">{{ told.plan.statement }}</pre>
        <p v-else-if="plan?.statementsHidden" class="quiet">Statements are told to those who run the service.</p>
      </aside>
    </div>
  </section>
</template>

<style scoped>
.strip { border-top: 1px solid var(--line); background: rgb(var(--v-theme-surface)); }
.head { height: 28px; padding-right: 12px; display: flex; align-items: center; gap: 12px; font-size: 12.5px; }
.fold { all: unset; box-sizing: border-box; cursor: pointer; height: 100%; padding-left: 8px; display: flex; align-items: center; gap: 10px; flex: 0 1 auto; min-width: 0; }
.fold:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.sum { font-weight: 600; }
.figure { color: var(--quiet); font-variant-numeric: tabular-nums; }
.wide { overflow: hidden; white-space: nowrap; text-overflow: ellipsis; min-width: 0; }
.quiet { color: var(--quiet); font-weight: 400; }
.open { display: flex; height: 148px; border-top: 1px solid var(--line); }
.canvas { flex: 1; min-width: 0; overflow: auto; }
.drawing { position: relative; }
.lane { position: absolute; left: 0; right: 0; border-left: 3px solid var(--source); }
.lane:nth-child(even) { background: color-mix(in srgb, var(--ink) 3%, transparent); }
.lane-name { position: absolute; left: 8px; top: 4px; width: 98px; overflow: hidden; text-overflow: ellipsis; font-size: 12px; font-weight: 600; color: var(--source); }
.threads { position: absolute; left: 0; top: 0; pointer-events: none; }
.tick { stroke: var(--line); }
.bracket { fill: none; stroke: var(--ink); stroke-width: 1.5; }
.thread { fill: none; stroke: color-mix(in srgb, var(--ink) 40%, transparent); stroke-width: 1; }
.thread.lit { stroke: var(--ink); stroke-width: 1.5; }
.tick-text { position: absolute; top: 2px; transform: translateX(-50%); font-size: 10.5px; color: var(--quiet); font-variant-numeric: tabular-nums; white-space: nowrap; }
.tick-text.last { transform: translateX(-75%); }
.wave { position: absolute; top: 2px; font-size: 11px; color: var(--quiet); }
.bar { all: unset; position: absolute; height: 17px; box-sizing: border-box; border-radius: 3px; background: var(--source); cursor: pointer; }
.bar.planned { background: transparent; border: 1.5px dashed var(--source); }
.bar.writes { box-shadow: 0 0 0 1px rgb(var(--v-theme-surface)), 0 0 0 2.5px var(--source); }
.bar.failed { background: repeating-linear-gradient(45deg, rgb(var(--v-theme-error)) 0 4px, transparent 4px 8px); border: 1px solid rgb(var(--v-theme-error)); }
.bar.lit { outline: 2px solid var(--ink); outline-offset: 1px; }
.bar:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: 1px; }
.label { position: absolute; pointer-events: none; font-size: 11.5px; line-height: 17px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; font-variant-numeric: tabular-nums; color: var(--ink); }
.label b { font-weight: 600; }
.label.within { color: rgb(var(--v-theme-surface)); }
.label.failed { background: rgb(var(--v-theme-surface)); padding: 0 4px; border-radius: 2px; line-height: 13px; margin-top: 2px; }
.label.faint:not(.within) { color: var(--quiet); }
.told { width: 330px; flex: none; border-left: 1px solid var(--line); padding: 6px 12px; overflow: auto; font-size: 12px; }
.told-head { display: flex; gap: 8px; align-items: center; font-weight: 600; color: var(--source); }
.dot { width: 9px; height: 9px; border-radius: 2px; background: var(--source); }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 1px 10px; margin: 4px 0; }
dt { color: var(--quiet); }
dd { margin: 0; font-variant-numeric: tabular-nums; overflow-wrap: anywhere; }
.mono { font-family: var(--mono); font-size: 11.5px; }
.statement { font-family: var(--mono); font-size: 11px; line-height: 1.4; white-space: pre-wrap; overflow-wrap: anywhere; margin: 4px 0 0; padding: 6px; border: 1px solid var(--line); border-radius: 3px; }
@media (max-width: 760px) {
  .open { flex-direction: column; height: auto; max-height: 320px; overflow: auto; }
  .told { width: auto; border-left: 0; border-top: 1px solid var(--line); overflow: visible; }
}
</style>
