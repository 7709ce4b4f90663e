<script setup lang="ts">
import { computed, reactive, ref, watch } from 'vue'
import type { Remote } from '../answer'
import type { Table } from '../answer/reader'
import VirtualRows from './VirtualRows.vue'

/** A list of the answer as a table; a list in a cell unfolds below. */
const props = defineProps<{ reader: Remote; lists: { path: string; count: number }[]; version: number }>()

const path = ref('')
const table = ref<Table>({ columns: [], count: 0 })
const sorted = reactive({ by: '', down: false })
const turn = ref(0)
const inner = ref<{ row: number; column: string; columns: string[]; rows: string[][] }>()

async function read() {
  inner.value = undefined
  sorted.by = ''
  if (!props.lists.some((l) => l.path === path.value)) path.value = props.lists[0]?.path ?? ''
  table.value = path.value ? await props.reader.table(path.value) : { columns: [], count: 0 }
  turn.value++
}
watch(() => [props.version, path.value], () => void read(), { immediate: true })

async function sort(column: string) {
  sorted.down = sorted.by === column && !sorted.down
  sorted.by = column
  await props.reader.sort(column, sorted.down)
  turn.value++
}

async function unfold(row: number, column: string) {
  if (inner.value?.row === row && inner.value.column === column) inner.value = undefined
  else inner.value = { row, column, ...(await props.reader.inside(row, column)) }
}

const fetch = (from: number, to: number) => props.reader.cells(from, to)
const widths = computed(() => `44px ${table.value.columns.map((c) => `${Math.min(280, Math.max(56, 18 + 7.3 * c.length))}px`).join(' ')}`)
defineExpose({ path })
</script>

<template>
  <div class="frame">
    <div v-if="lists.length > 1" class="which">
      <label>List <select v-model="path" aria-label="List" data-test="table-list"><option v-for="l in lists" :key="l.path" :value="l.path">{{ l.path }} ({{ l.count }})</option></select></label>
    </div>
    <p v-if="!lists.length" class="none">There is no list in this answer: the tree shows it.</p>
    <VirtualRows v-else :count="table.count" :height="24" :fetch="fetch" :version="turn" label="Answer as a table" class="table">
      <template #head>
        <div class="line top" role="row" :style="{ gridTemplateColumns: widths }">
          <span class="cell no" />
          <button
            v-for="c in table.columns" :key="c.path" type="button" class="cell" :class="{ number: c.number }" :title="`Sort by ${c.path}`" data-test="table-column"
            :aria-sort="sorted.by === c.path ? (sorted.down ? 'descending' : 'ascending') : 'none'" @click="sort(c.path)"
          >{{ c.path || 'value' }}{{ sorted.by === c.path ? (sorted.down ? ' ↓' : ' ↑') : '' }}</button>
        </div>
      </template>
      <template #row="{ item, at }: { item: { text: string; list?: number }[]; at: number }">
        <div class="line" role="row" :style="{ gridTemplateColumns: widths }" data-test="table-row">
          <span class="cell no">{{ at + 1 }}</span>
          <template v-for="(cell, i) in item" :key="i">
            <button v-if="cell.list" type="button" class="cell list" :aria-expanded="inner?.row === at && inner.column === table.columns[i]?.path" @click="unfold(at, table.columns[i]!.path)">{{ cell.text }}</button>
            <span v-else class="cell" :class="{ number: table.columns[i]?.number }" :title="cell.text">{{ cell.text }}</span>
          </template>
        </div>
      </template>
    </VirtualRows>
    <div v-if="inner" class="inner" data-test="table-inner">
      <div class="inner-head"><b>{{ path }}[{{ inner.row }}].{{ inner.column }}</b><button type="button" class="plain" @click="inner = undefined">Close</button></div>
      <table>
        <thead><tr><th v-for="c in inner.columns" :key="c">{{ c || 'value' }}</th></tr></thead>
        <tbody><tr v-for="(row, i) in inner.rows" :key="i"><td v-for="(text, j) in row" :key="j">{{ text }}</td></tr></tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.frame { height: 100%; display: flex; flex-direction: column; font-size: 12.5px; }
.which { padding: 4px 12px; border-bottom: 1px solid var(--line); color: var(--quiet); }
.none { padding: 10px 12px; color: var(--quiet); }
.table { flex: 1; min-height: 0; }
.line { display: grid; min-width: max-content; height: 24px; border-bottom: 1px solid color-mix(in srgb, var(--ink) 6%, transparent); }
.top { position: sticky; top: 0; z-index: 1; background: rgb(var(--v-theme-surface)); border-bottom-color: var(--line); font-weight: 600; }
.cell { all: unset; box-sizing: border-box; padding: 0 8px; line-height: 24px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
button.cell { cursor: pointer; }
button.cell:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.no { color: var(--quiet); text-align: right; font-variant-numeric: tabular-nums; }
.number { text-align: right; font-variant-numeric: tabular-nums; }
.list { color: rgb(var(--v-theme-primary)); text-decoration: underline; text-decoration-thickness: 1px; }
.inner { max-height: 40%; overflow: auto; border-top: 2px solid var(--line); padding: 4px 12px 8px; }
.inner-head { display: flex; justify-content: space-between; padding: 2px 0 4px; }
.inner .plain { color: rgb(var(--v-theme-primary)); }
table { border-collapse: collapse; }
th, td { text-align: left; padding: 1px 14px 1px 0; font-weight: 400; }
th { font-weight: 600; color: var(--quiet); }
</style>
