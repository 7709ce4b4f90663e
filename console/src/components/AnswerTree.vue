<script setup lang="ts">
import { mdiContentCopy } from '@mdi/js'
import { ref, useTemplateRef, watch } from 'vue'
import type { Remote } from '../answer'
import type { Row } from '../answer/reader'
import { sourceColour } from '../sources'
import VirtualRows from './VirtualRows.vue'

/** An answer as a tree. */
const props = defineProps<{
  reader: Remote
  rows: number
  version: number
  /** Which source is asked for a place of the answer; and whether what is pointed at came of the same request. */
  sourceOf: (place: string) => string | undefined
  enters: (place: string) => boolean
  isLit: (place: string) => boolean
}>()
const emit = defineEmits<{ point: [place: string]; copied: [what: string] }>()

const list = useTemplateRef<{ show: (at: number) => void }>('list')
const count = ref(props.rows)
const turn = ref(0)
const at = ref(0)
watch(() => [props.rows, props.version], () => {
  count.value = props.rows
  turn.value++
})

const fetch = (from: number, to: number) => props.reader.rows(from, to)

async function toggle(row: Row, deep: boolean) {
  count.value = await props.reader.toggle(row.at, deep)
  turn.value++
}

async function copy(row: Row) {
  const value = await props.reader.valueAt(row.at)
  await navigator.clipboard.writeText(value.startsWith('"') ? (JSON.parse(value) as string) : value).catch(() => undefined)
  emit('copied', row.path)
}

/** The tree by keyboard: up and down, open and fold, copy. */
async function key(event: KeyboardEvent) {
  const step = { ArrowDown: 1, ArrowUp: -1, PageDown: 20, PageUp: -20, Home: -1e9, End: 1e9 }[event.key]
  const [row] = await props.reader.rows(at.value, at.value + 1)
  if (step !== undefined) {
    at.value = Math.min(count.value - 1, Math.max(0, at.value + step))
    list.value?.show(at.value)
    const [now] = await props.reader.rows(at.value, at.value + 1)
    if (now) emit('point', now.place)
  } else if (row && (event.key === 'Enter' || event.key === ' ' || (event.key === 'ArrowRight' && row.open === false) || (event.key === 'ArrowLeft' && row.open))) {
    await toggle(row, event.shiftKey)
  } else if (row && event.key === 'c' && (event.ctrlKey || event.metaKey) && !window.getSelection()?.toString()) {
    await copy(row)
  }
}

/** Goes to a row. */
function go(row: number, rows: number) {
  count.value = rows
  turn.value++
  at.value = row
  window.setTimeout(() => list.value?.show(row))
}
defineExpose({ go, at, turned: () => turn.value++ })

function keys(event: KeyboardEvent) {
  if (['ArrowDown', 'ArrowUp', 'PageDown', 'PageUp', 'Home', 'End', 'ArrowRight', 'ArrowLeft', 'Enter', ' '].includes(event.key)) event.preventDefault()
  void key(event)
}
</script>

<template>
  <div class="tree" @keydown="keys">
    <VirtualRows ref="list" :count="count" :height="20" :fetch="fetch" :version="turn" label="Answer as a tree" role="tree">
      <template #row="{ item: row }: { item: Row }">
        <div
          class="row" role="treeitem" :aria-level="row.depth + 1" :aria-expanded="row.open" :aria-selected="row.at === at" :class="{ here: row.at === at, changed: row.changed, hit: row.hit, lit: isLit(row.place) }"
          :style="{ paddingLeft: `${8 + row.depth * 16}px`, '--source': sourceOf(row.place) ? sourceColour(sourceOf(row.place)!) : 'transparent' }" @mouseenter="emit('point', row.place)" @click="at = row.at"
        >
          <span v-if="enters(row.place)" class="mark" />
          <button v-if="row.open !== undefined" type="button" class="name" tabindex="-1" @click.stop="(at = row.at), toggle(row, $event.shiftKey || $event.altKey)">
            <span class="turn">{{ row.open ? '▾' : '▸' }}</span>{{ row.name }}
          </button>
          <span v-else class="leaf">{{ row.name }}</span>
          <span class="value" :class="row.kind">{{ ' ' + row.text }}</span>
          <button type="button" class="copy" tabindex="-1" :title="`Copy ${row.path}`" :aria-label="`Copy ${row.path}`" @click.stop="copy(row)"><v-icon :icon="mdiContentCopy" size="13" /></button>
        </div>
      </template>
    </VirtualRows>
  </div>
</template>

<style scoped>
.tree { height: 100%; font-family: var(--mono); font-size: 12.5px; }
.row { position: relative; height: 20px; line-height: 20px; padding-right: 30px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.row:hover { background: color-mix(in srgb, var(--ink) 5%, transparent); }
.here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 9%, transparent); }
.lit { background: color-mix(in srgb, var(--source) 14%, transparent); }
.mark { position: absolute; left: 0; top: 0; bottom: 0; width: 3px; background: var(--source); }
.changed::after { content: ''; position: absolute; right: 0; top: 3px; bottom: 3px; width: 3px; background: rgb(var(--v-theme-warning)); }
.hit .value, .hit .name, .hit .leaf { background: color-mix(in srgb, rgb(var(--v-theme-warning)) 26%, transparent); }
.name { all: unset; cursor: pointer; color: var(--ed-field); }
.turn { display: inline-block; width: 14px; color: var(--quiet); }
.leaf { padding-left: 14px; color: var(--ed-field); }
.value { color: var(--ed-string); }
.list, .object { color: var(--quiet); }
.number, .boolean { color: var(--ed-atom); }
.null { color: var(--quiet); font-style: italic; }
.copy { all: unset; position: absolute; right: 8px; top: 0; cursor: pointer; opacity: 0; color: var(--quiet); }
.row:hover .copy { opacity: 1; }
</style>
