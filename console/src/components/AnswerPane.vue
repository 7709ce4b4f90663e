<script setup lang="ts">
import { json } from '@codemirror/lang-json'
import { mdiChevronDown, mdiChevronUp, mdiDownload, mdiMagnify } from '@mdi/js'
import { computed, defineAsyncComponent, ref, shallowRef, useTemplateRef, watch } from 'vue'
import { useTheme } from 'vuetify'
import { useAsk } from '../stores/ask'
import AnswerTree from './AnswerTree.vue'
import EventList from './EventList.vue'
import FaultList from './FaultList.vue'

const AnswerTable = defineAsyncComponent(() => import('./AnswerTable.vue'))
const AnswerChart = defineAsyncComponent(() => import('./AnswerChart.vue'))
const TextEditor = defineAsyncComponent(() => import('./TextEditor.vue'))

/** What was answered: as a tree, a table, a chart or as it came. */
defineProps<{ sourceOf: (place: string) => string | undefined; enters: (place: string) => boolean; isLit: (place: string) => boolean }>()
const emit = defineEmits<{ show: [at: { line: number; column: number }] }>()

const ask = useAsk()
const theme = useTheme()
type View = 'tree' | 'table' | 'raw' | 'chart'
const views: { name: View; title: string }[] = [{ name: 'tree', title: 'Tree' }, { name: 'table', title: 'Table' }, { name: 'chart', title: 'Chart' }, { name: 'raw', title: 'Raw' }]
const view = ref<View>((localStorage.getItem('osprey.view') as View | null) ?? 'tree')
watch(view, (now) => localStorage.setItem('osprey.view', now))

const tree = useTemplateRef<InstanceType<typeof AnswerTree>>('tree')
const raw = shallowRef('')
const words = ref('')
const found = ref<{ hits: number; at: number }>()
const said = ref('')
let fading = 0

const head = computed(() => ask.run.head)
const hasData = computed(() => head.value?.hasData ?? false)
const size = computed(() => (ask.run.bytes > 2048 ? `${(ask.run.bytes / 1024).toFixed(ask.run.bytes > 1e6 ? 0 : 1)} KB` : `${ask.run.bytes} B`))

watch(() => [view.value, ask.run.shown, ask.sheet.id], async () => {
  words.value = ''
  found.value = undefined
  if (view.value === 'raw' && hasData.value) raw.value = await ask.reader.text()
}, { immediate: true })

async function search(by: 1 | -1 | 0) {
  if (!words.value) {
    found.value = undefined
    await ask.reader.find('', 0)
    tree.value?.turned()
    return
  }
  view.value = 'tree'
  const from = (tree.value?.at ?? 0) + (by === 1 ? 1 : 0)
  const got = await ask.reader.find(words.value, by === 0 ? 0 : from)
  const at = by === -1 ? await ask.reader.back(tree.value?.at ?? 0) : got.at
  found.value = { hits: got.hits, at }
  if (at >= 0) tree.value?.go(at, got.rows)
}

function say(text: string) {
  said.value = text
  window.clearTimeout(fading)
  fading = window.setTimeout(() => (said.value = ''), 2500)
}

function save(text: string, type: string, name: string) {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type }))
  link.download = name
  link.click()
  window.setTimeout(() => URL.revokeObjectURL(link.href), 1000)
  say(`${name} is saved.`)
}

const fileName = computed(() => (ask.nameOf(ask.sheet) === 'Untitled' ? 'answer' : ask.nameOf(ask.sheet)))

async function saveJSON() {
  save(await ask.reader.text(), 'application/json', `${fileName.value}.json`)
}

async function saveCSV() {
  const list = head.value?.lists[0]
  if (!list) return
  if (view.value !== 'table') await ask.reader.table(list.path)
  save(await ask.reader.csv(), 'text/csv', `${fileName.value}.csv`)
}
</script>

<template>
  <div class="answer">
    <div class="bar">
      <div class="views" role="tablist" aria-label="Show the answer as">
        <button v-for="v in views" :key="v.name" type="button" role="tab" :aria-selected="view === v.name" :class="{ on: view === v.name }" :data-test="v.name" @click="view = v.name">{{ v.title }}</button>
      </div>
      <label v-if="hasData && !ask.run.events" class="search">
        <v-icon :icon="mdiMagnify" size="15" />
        <input v-model="words" type="search" placeholder="Search" aria-label="Search the answer" data-test="search" @input="search(0)" @keydown.enter.prevent="search($event.shiftKey ? -1 : 1)" />
      </label>
      <template v-if="found">
        <span class="figure" data-test="hits">{{ found.hits }} found</span>
        <button type="button" class="step" aria-label="The one before" @click="search(-1)"><v-icon :icon="mdiChevronUp" size="16" /></button>
        <button type="button" class="step" aria-label="The next" @click="search(1)"><v-icon :icon="mdiChevronDown" size="16" /></button>
      </template>
      <span class="space" />
      <span v-if="said" class="figure" role="status">{{ said }}</span>
      <template v-else>
        <span v-if="head?.changed !== undefined" class="figure" data-test="changed" title="Compared with the run before; what is otherwise is marked at the right edge">{{ head.changed ? `${head.changed} otherwise` : 'as before' }}</span>
        <span v-if="ask.run.events" class="figure" data-test="told">{{ ask.run.events.length + ask.run.waiting.length }} told</span>
        <span v-else-if="head && !ask.run.running" class="figure" data-test="figures">{{ Math.round(ask.run.millis) }} ms<template v-if="ask.run.bytes"> · {{ size }}</template></span>
      </template>
      <v-menu v-if="hasData">
        <template #activator="{ props: own }"><button v-bind="own" type="button" class="step" aria-label="Save the answer" title="Save the answer" data-test="export"><v-icon :icon="mdiDownload" size="17" /></button></template>
        <v-list density="compact">
          <v-list-item title="As JSON" data-test="export-json" @click="saveJSON" />
          <v-list-item v-if="head?.lists.length" :title="`As CSV: ${view === 'table' ? 'this table' : head.lists[0]?.path}`" data-test="export-csv" @click="saveCSV" />
        </v-list>
      </v-menu>
    </div>
    <div v-if="ask.run.running" class="under-way" role="progressbar" aria-label="The service is asked" />
    <div v-if="ask.run.trouble" class="message wrong" role="alert" data-test="trouble">{{ ask.run.trouble }}</div>
    <FaultList v-if="ask.faults.length" :class="{ above: hasData }" :faults="ask.faults" @show="emit('show', $event)" />
    <div v-if="hasData || ask.run.events" class="body" :class="{ told: ask.run.events }" data-test="answer">
      <EventList v-if="ask.run.events" :events="ask.run.events" :chosen="ask.run.chosen" :waiting="ask.run.waiting.length" @choose="ask.choose" />
      <template v-if="hasData">
        <AnswerTree
          v-if="view === 'tree'" ref="tree" :key="ask.sheet.id" :reader="ask.reader" :rows="head?.rows ?? 0" :version="ask.run.shown" :source-of="sourceOf" :enters="enters" :is-lit="isLit"
          @point="ask.lit = $event" @copied="say(`${$event} is copied.`)" @mouseleave="ask.lit = ''"
        />
        <AnswerTable v-else-if="view === 'table'" :reader="ask.reader" :lists="head?.lists ?? []" :version="ask.run.shown" />
        <AnswerChart v-else-if="view === 'chart'" :reader="ask.reader" :lists="head?.lists ?? []" :version="ask.run.shown" :dark="theme.global.current.value.dark" />
        <TextEditor v-else :model-value="raw" label="Answer" :language="raw.length < 2e6 ? json() : []" readonly />
      </template>
    </div>
    <div v-else-if="!ask.run.trouble && !ask.faults.length" class="message">
      <template v-if="ask.run.running">The answer is on its way.</template>
      <template v-else-if="ask.run.plan">Nothing was run. Below is what the operation would ask.</template>
      <template v-else>Run the operation with <kbd>Ctrl</kbd> <kbd>Enter</kbd>, or plan it to see beforehand what it asks. <router-link to="/start">What this project has, and what to do next</router-link></template>
    </div>
  </div>
</template>

<style scoped>
a { color: rgb(var(--v-theme-primary)); }
.answer { display: flex; flex-direction: column; height: 100%; min-height: 0; }
.bar { display: flex; align-items: center; gap: 8px; height: 34px; flex: none; padding: 0 8px 0 6px; border-bottom: 1px solid var(--line); }
.views { display: flex; height: 100%; }
.views button { all: unset; cursor: pointer; padding: 0 9px; font-size: 12.5px; color: var(--quiet); display: flex; align-items: center; border-bottom: 2px solid transparent; box-sizing: border-box; }
.views .on { color: var(--ink); font-weight: 600; border-bottom-color: var(--ink); }
.views button:focus-visible, .step:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.search { display: flex; align-items: center; gap: 4px; color: var(--quiet); border: 1px solid var(--line); border-radius: 4px; padding: 0 6px; height: 24px; min-width: 60px; flex: 0 1 170px; }
.search input { all: unset; width: 100%; font-size: 12.5px; color: var(--ink); }
.search:focus-within { border-color: rgb(var(--v-theme-primary)); }
.space { flex: 1; }
.figure { font-size: 12px; color: var(--quiet); font-variant-numeric: tabular-nums; white-space: nowrap; }
.step { all: unset; cursor: pointer; color: var(--quiet); padding: 2px; display: flex; }
.under-way { height: 2px; flex: none; background: linear-gradient(90deg, transparent, rgb(var(--v-theme-primary)), transparent) 0 0 / 40% 100% no-repeat; animation: way 1.1s linear infinite; }
@keyframes way { from { background-position: -60% 0; } to { background-position: 160% 0; } }
@media (prefers-reduced-motion: reduce) { .under-way { animation: none; background: rgb(var(--v-theme-primary)); } }
.body { flex: 1; min-height: 0; overflow: hidden; }
.told { display: grid; grid-template-columns: minmax(0, 2fr) minmax(0, 3fr); grid-template-rows: minmax(0, 1fr); }
.above { max-height: 40%; flex: none; }
.message { padding: 10px 12px; color: var(--quiet); font-size: 13px; }
.wrong { color: rgb(var(--v-theme-error)); }
kbd { font-family: inherit; font-size: 11.5px; border: 1px solid var(--line); border-radius: 3px; padding: 0 4px; }
@media (max-width: 760px) {
  .body { height: 340px; flex: none; }
  .bar { gap: 4px; }
  .views button { padding: 0 6px; }
  .figure { overflow: hidden; text-overflow: ellipsis; min-width: 0; }
}
</style>
