<script setup lang="ts">
import { computed } from 'vue'
import type { Source } from '../operator'
import { bytes, number } from '../words'

/** How a source is asked, as figures: places for requests, connections of its pool, answers that are kept, and whether it is left alone. */
const props = defineProps<{ source: Source }>()

interface Figure {
  name: string
  text: string
  note?: string
  share?: number
  bad?: boolean
}


const figures = computed<Figure[]>(() => {
  const list: Figure[] = []
  const { state, connections, kept } = props.source
  if (state) {
    list.push({ name: 'under way', text: `${state.running} of ${state.most}`, share: state.running / state.most, note: 'Requests that the store is asked now, and how many it may be asked at once' })
    list.push({ name: 'waiting', text: `${number(state.waiting)} of ${number(state.queue)}`, share: state.waiting / state.queue, bad: state.waiting > 0, note: 'Requests that wait for their turn, and how many may' })
  }
  if (connections) list.push({ name: 'connections', text: `${connections.busy} busy, ${connections.open} open, of ${connections.most}`, share: connections.open / connections.most, note: 'Of the pool; one more than requests, for pings and the catalogue' })
  if (kept) list.push({ name: 'kept answers', text: kept.answers ? `${number(kept.answers)} in ${bytes(kept.bytes)}` : 'none', note: 'For as long as the service allows (Cache-Control)' })
  if (kept?.asked) list.push({ name: 'answered by them', text: `${number(kept.given)} of ${number(kept.asked)}`, share: kept.given / kept.asked, note: 'Since the start' })
  if (state) {
    list.push({
      name: 'left alone', text: state.asked === 'no' ? 'now' : state.left ? `${state.left} ${state.left === 1 ? 'time' : 'times'}, not now` : 'never', bad: state.asked !== 'yes',
      note: 'A store that does not answer is not asked, so that nobody waits for it, and tried again every second. Since the start of the service',
    })
    if (state.failed) list.push({ name: 'failed in a row', text: number(state.failed), bad: true, note: 'Requests that did not reach it, or were not answered in time' })
  }
  return list
})
</script>

<template>
  <dl v-if="figures.length" class="figures" data-test="source-figures">
    <div v-for="f in figures" :key="f.name" :title="f.note">
      <dt>{{ f.name }}</dt>
      <dd :class="{ bad: f.bad }">{{ f.text }}</dd>
      <span class="meter"><i v-if="f.share !== undefined" :class="{ bad: f.bad }" :style="{ width: `${Math.min(100, 100 * f.share)}%` }" /></span>
    </div>
  </dl>
</template>

<style scoped>
.figures { display: flex; flex-wrap: wrap; gap: 4px 26px; margin: 0; padding: 6px 16px 7px; border-bottom: 1px solid var(--line); font-size: 12.5px; font-variant-numeric: tabular-nums; }
dt { color: var(--quiet); font-size: 11.5px; }
dd { margin: 0; }
.bad { color: rgb(var(--v-theme-error)); }
.meter { display: block; height: 3px; min-width: 70px; margin-top: 2px; }
.meter:has(i) { background: var(--line); }
.meter i { display: block; height: 3px; background: var(--source); }
.meter i.bad { background: rgb(var(--v-theme-error)); }
</style>
