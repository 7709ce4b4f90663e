<script setup lang="ts">
import { mdiAlertCircleOutline, mdiChevronRight, mdiFunctionVariant, mdiKeyVariant, mdiRepeat } from '@mdi/js'
import { computed } from 'vue'
import type { Call, Explanation } from '../client'
import { sourceColour } from '../sources'

const props = defineProps<{ calls: Call[]; plan?: Explanation }>()

interface Request {
  source: string
  asks: string
  planned: boolean
  requests?: number
  keys?: number
  calls?: number
  records?: number
  ms?: number
  failed?: boolean
  eachKey?: boolean
  pages?: number
  statements?: number
}

const waves = computed<{ wave: number; requests: Request[] }[]>(() => {
  if (props.plan) {
    return props.plan.waves.map((w) => ({
      wave: w.wave,
      requests: w.requests.map((r) => ({ source: r.source, asks: r.asks || r.problem || '', planned: true, pages: r.pages, eachKey: r.eachKey, statements: r.statements })),
    }))
  }
  const list: { wave: number; requests: Request[] }[] = []
  for (const call of props.calls) {
    let wave = list.find((w) => w.wave === call.wave)
    if (!wave) list.push((wave = { wave: call.wave, requests: [] }))
    wave.requests.push({ ...call, planned: false })
  }
  return list
})

const slowest = computed(() => Math.max(1, ...props.calls.map((c) => c.ms)))
const refused = computed(() =>
  props.plan?.limit && props.plan.requests > props.plan.limit ? `, more than the limit of ${props.plan.limit}: it is refused` : '',
)
const total = computed(() => (props.plan ? props.plan.requests : props.calls.reduce((n, c) => n + c.requests, 0)))

const count = (n: number, noun: string) => `${n} ${noun}${n === 1 ? '' : 's'}`
const time = (ms: number) => (ms < 10 ? ms.toFixed(1) : Math.round(ms)) + ' ms'
</script>

<template>
  <section class="strip" aria-label="Store requests">
    <div class="head">
      <span class="pane-title">Waves</span>
      <span v-if="waves.length" class="sum" data-test="wave-summary">
        {{ plan ? 'would ask' : 'asked' }} {{ plan?.several ? 'at least ' : '' }}{{ count(total, 'store request') }} in {{ count(waves.length, 'wave') }}{{ refused }}
      </span>
      <span v-else-if="plan" class="sum" data-test="wave-summary">would ask no store</span>
      <span v-else class="empty">Run an operation to see which store is asked what, or plan it to see that beforehand.</span>
    </div>
    <div v-if="waves.length" class="waves">
      <template v-for="(w, i) in waves" :key="w.wave">
        <v-icon v-if="i > 0" :icon="mdiChevronRight" class="then" size="small" />
        <div class="wave" data-test="wave">
          <div class="number">wave {{ w.wave }}</div>
          <div class="requests">
            <div
              v-for="(r, j) in w.requests" :key="j" class="request" :class="{ planned: r.planned, failed: r.failed }"
              :style="{ '--source': sourceColour(r.source) }" data-test="request" :title="r.asks"
            >
              <div class="line">
                <strong>{{ r.source }}</strong>
                <span v-if="r.eachKey" class="note"><v-icon :icon="mdiRepeat" size="x-small" /> each key</span>
                <span v-else-if="r.statements" class="note"><v-icon :icon="mdiRepeat" size="x-small" /> {{ count(r.statements, 'statement') }}</span>
                <span v-else-if="r.planned && r.pages" class="note"><v-icon :icon="mdiRepeat" size="x-small" /> up to {{ r.pages }} pages</span>
                <span v-else-if="(r.requests ?? 1) > 1" class="note"><v-icon :icon="mdiRepeat" size="x-small" /> {{ r.requests }} requests</span>
                <v-spacer />
                <span v-if="r.ms !== undefined" class="time">{{ time(r.ms) }}</span>
              </div>
              <div class="asks mono">{{ r.asks }}</div>
              <div v-if="!r.planned" class="line small">
                <span v-if="r.keys"><v-icon :icon="mdiKeyVariant" size="x-small" /> {{ count(r.keys, 'key') }}</span>
                <span v-if="r.calls"><v-icon :icon="mdiFunctionVariant" size="x-small" /> {{ count(r.calls, 'call') }}</span>
                <span v-if="r.failed" class="bad"><v-icon :icon="mdiAlertCircleOutline" size="x-small" /> failed</span>
                <span v-else>{{ count(r.records ?? 0, r.calls ? 'result' : 'record') }}</span>
                <div class="bar"><div :style="{ width: `${((r.ms ?? 0) / slowest) * 100}%` }" /></div>
              </div>
            </div>
          </div>
        </div>
      </template>
    </div>
  </section>
</template>

<style scoped>
.strip { padding: 6px 12px 10px; }
.head { display: flex; align-items: baseline; gap: 12px; min-height: 22px; }
.sum { font-weight: 600; font-size: 0.85rem; }
.empty { font-size: 0.85rem; opacity: 0.7; }
.waves { display: flex; align-items: stretch; overflow-x: auto; gap: 4px; padding-top: 4px; }
.wave { display: flex; gap: 8px; align-items: stretch; }
.number { writing-mode: vertical-rl; transform: rotate(180deg); text-align: center; font-size: 0.7rem; opacity: 0.7; letter-spacing: 0.05em; }
.then { align-self: center; opacity: 0.6; }
.requests { display: flex; gap: 8px; }
.request {
  width: 218px; border-radius: 6px; padding: 5px 9px 6px; border-left: 4px solid var(--source);
  background: color-mix(in srgb, var(--source) 9%, rgb(var(--v-theme-surface)));
}
.request.planned { border-left-style: dashed; }
.request.failed { outline: 1px solid rgb(var(--v-theme-error)); }
.line { display: flex; align-items: center; gap: 8px; font-size: 0.82rem; }
.line strong { color: var(--source); }
.small { font-size: 0.74rem; }
.note { font-size: 0.72rem; opacity: 0.8; }
.time { font-variant-numeric: tabular-nums; font-size: 0.76rem; }
.asks {
  font-size: 0.7rem; line-height: 1.35; height: 2.7em; overflow: hidden; opacity: 0.85; overflow-wrap: anywhere;
  display: -webkit-box; -webkit-line-clamp: 2; -webkit-box-orient: vertical;
}
.bad { color: rgb(var(--v-theme-error)); }
.bar { flex: 1; height: 3px; border-radius: 2px; background: rgba(var(--v-theme-on-surface), 0.1); }
.bar div { height: 100%; border-radius: 2px; background: var(--source); }
</style>
