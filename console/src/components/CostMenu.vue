<script setup lang="ts">
import { mdiMenuDown } from '@mdi/js'
import { computed } from 'vue'
import type { Explanation } from '../client'
import { number } from '../words'

/** What an operation costs, and what it would with other limits of its lists. */
const props = defineProps<{ plan: Explanation }>()
const text = computed(() => `cost ${number(props.plan.cost)}${props.plan.costLimit ? ` of ${number(props.plan.costLimit)}` : ''}`)
const over = computed(() => props.plan.costLimit !== undefined && props.plan.cost > props.plan.costLimit)
const limits = computed(() => props.plan.limits ?? [])
</script>

<template>
  <span v-if="!limits.length" class="figure" :class="{ over }" title="As it is estimated before it runs: 10 for each store request, 1 for each 10 records that are expected" data-test="cost">{{ text }}</span>
  <v-menu v-else location="top" :close-on-content-click="false">
    <template #activator="{ props: own }">
      <button v-bind="own" type="button" class="plain figure link" :class="{ over }" data-test="cost">{{ text }}<v-icon :icon="mdiMenuDown" size="14" /></button>
    </template>
    <div class="box" data-test="costs">
      <p><b>With other limits</b> <span class="quiet">10 for each store request, 1 for each 10 records that are expected</span></p>
      <table>
        <tbody v-for="l in limits" :key="l.field + l.argument">
          <tr><th rowspan="2" scope="rowgroup"><code>{{ l.variable ? `$${l.variable}` : `${l.field}(${l.argument}:)` }}</code></th><td v-for="c in l.costs" :key="c.value" class="value" :class="{ now: c.value === l.value }">{{ number(c.value) }}</td></tr>
          <tr><td v-for="c in l.costs" :key="c.value" :class="{ now: c.value === l.value, over: plan.costLimit !== undefined && c.cost > plan.costLimit }" :title="`${number(c.records)} records are expected${plan.costLimit !== undefined && c.cost > plan.costLimit ? '; it is refused' : ''}`">{{ number(c.cost) }}</td></tr>
        </tbody>
      </table>
    </div>
  </v-menu>
</template>

<style scoped>
.figure { color: var(--quiet); font-variant-numeric: tabular-nums; white-space: nowrap; }
.link { color: rgb(var(--v-theme-primary)); display: inline-flex; align-items: center; }
.over { color: rgb(var(--v-theme-error)) !important; }
.box { color: var(--ink); background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 6px; padding: 10px 14px; font-size: 12.5px; max-width: 92vw; overflow: auto; }
p { margin: 0 0 6px; }
.quiet { color: var(--quiet); }
table { border-collapse: collapse; font-variant-numeric: tabular-nums; }
th { text-align: left; font-weight: 400; padding: 3px 16px 3px 0; vertical-align: top; max-width: 320px; overflow-wrap: anywhere; }
td { text-align: right; padding: 1px 8px; }
tbody + tbody { border-top: 1px solid var(--line); }
.value { color: var(--quiet); }
.now { font-weight: 700; color: var(--ink); background: color-mix(in srgb, rgb(var(--v-theme-primary)) 10%, transparent); }
code { font-family: var(--mono); font-size: 12px; }
</style>
