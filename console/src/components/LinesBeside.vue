<script setup lang="ts">
import { computed } from 'vue'
import { beside } from '../lines'

/** Two texts side by side: where they differ, and what is around it. */
const props = defineProps<{ left: string; right: string; label: string }>()
const lines = computed(() => beside(props.left, props.right))

/** The lines that differ, each with some around it. */
const shown = computed(() => {
  const near = new Set<number>()
  lines.value.forEach((l, i) => {
    if (!l.same) for (let k = i - 3; k <= i + 3; k++) near.add(k)
  })
  const out: ({ gap: number } | { left?: string; right?: string; same: boolean; at: number })[] = []
  let gap = 0
  lines.value.forEach((l, i) => {
    if (!near.has(i) && near.size) {
      gap++
      return
    }
    if (gap) out.push({ gap })
    gap = 0
    out.push({ ...l, at: i })
  })
  if (gap) out.push({ gap })
  return out
})
</script>

<template>
  <div class="beside" tabindex="0" role="region" :aria-label="label" data-test="beside">
    <template v-for="(l, i) in shown" :key="i">
      <div v-if="'gap' in l" class="gap">{{ l.gap }} {{ l.gap === 1 ? 'line' : 'lines' }}, the same</div>
      <template v-else><pre :class="{ gone: !l.same && l.left !== undefined }">{{ l.left ?? '' }}</pre><pre :class="{ come: !l.same && l.right !== undefined }">{{ l.right ?? '' }}</pre></template>
    </template>
  </div>
</template>

<style scoped>
.beside { overflow: auto; display: grid; grid-template-columns: minmax(0, 1fr) minmax(0, 1fr); align-content: start; }
.beside pre { font-family: var(--mono); font-size: 12.5px; line-height: 19px; margin: 0; padding: 0 12px; white-space: pre-wrap; overflow-wrap: anywhere; min-height: 19px; }
.beside pre:nth-child(odd) { border-right: 1px solid var(--line); }
.gone { background: color-mix(in srgb, rgb(var(--v-theme-error)) 12%, transparent); }
.come { background: color-mix(in srgb, rgb(var(--v-theme-success)) 14%, transparent); }
.gap { grid-column: 1 / -1; text-align: center; color: var(--quiet); font-size: 12px; background: rgb(var(--v-theme-background)); line-height: 20px; }
.beside:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
</style>
