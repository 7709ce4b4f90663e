<script setup lang="ts">
import { mdiFormatAlignLeft, mdiLinkVariant, mdiMapMarkerPath, mdiPause, mdiPlay, mdiStop } from '@mdi/js'
import { computed, defineAsyncComponent, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { NoAnswer, tidied } from '../client'
import AnswerPane from '../components/AnswerPane.vue'
import AskDrawers from '../components/AskDrawers.vue'
import CallMenu from '../components/CallMenu.vue'
import SavedMenu from '../components/SavedMenu.vue'
import SheetTabs from '../components/SheetTabs.vue'
import SplitPane from '../components/SplitPane.vue'
import TextEditor from '../components/TextEditor.vue'
import WaveStrip from '../components/WaveStrip.vue'
import { onAction } from '../actions'
import type { Mark } from '../editor/marks'
import { operationMode } from '../editor/mode'
import { places, renamed } from '../editor/selection'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'

defineOptions({ name: 'AskPage' })
const EventTicks = defineAsyncComponent(() => import('../components/EventTicks.vue'))
const RenameDialog = defineAsyncComponent(() => import('../components/RenameDialog.vue'))

const ask = useAsk()
const types = useTypes()
const route = useRoute()
const router = useRouter()
const editor = useTemplateRef<InstanceType<typeof TextEditor>>('editor')
const drawers = useTemplateRef<InstanceType<typeof AskDrawers>>('drawers')
const folded = ref(localStorage.getItem('osprey.strip') === 'folded')
const narrow = ref(window.innerWidth <= 760)
const pointed = ref<number>() // the request under the pointer
const said = ref('')
const naming = ref<{ at: number; was: string }>()

/** Which requests are for a place of the answer: those for the longest part of it that any is for. */
const covers = computed(() => {
  const list: { place: string; id: number; source: string }[] = []
  for (const wave of ask.run.plan?.waves ?? []) for (const r of wave.requests) for (const read of r.reads) for (const place of read.fields) list.push({ place, id: r.id, source: r.source })
  return list
})
const sources = computed(() => new Map(covers.value.map((c) => [c.place, c.source])))

function requestsFor(place: string): number[] {
  for (let at = place; at; at = at.slice(0, Math.max(0, at.lastIndexOf('.')))) {
    const own = covers.value.filter((c) => c.place === at)
    if (own.length) return [...new Set(own.map((c) => c.id))]
    if (!at.includes('.')) break
  }
  return []
}

/** The source that was asked for a place, or for what it is in. */
function sourceFor(place: string): string | undefined {
  for (let at = place; ; at = at.slice(0, at.lastIndexOf('.'))) {
    const own = sources.value.get(at)
    if (own !== undefined || !at.includes('.')) return own
  }
}

const chosen = computed(() => ask.pinned ?? pointed.value)
const lit = computed(() => (chosen.value !== undefined ? [chosen.value] : ask.lit ? requestsFor(ask.lit) : []))
/** Whether a place came of a request that is pointed at. */
const isLit = (place: string) => chosen.value !== undefined && requestsFor(place).includes(chosen.value)

const marks = computed<Mark[]>(() => {
  if (!covers.value.length) return []
  return places(ask.known, ask.chosenName)
    .map((p) => ({ from: p.from, to: p.to, source: sourceFor(p.place), enters: sources.value.has(p.place), lit: isLit(p.place) || (ask.lit !== '' && ask.lit === p.place) }))
    .filter((m) => m.enters || m.lit)
})

/** The cursor in the text points at the requests that feed the field there. */
function at(offset: number) {
  const own = places(ask.known, ask.chosenName).find((p) => p.from <= offset && offset <= p.to)
  ask.lit = own?.place ?? ''
}

function fold() {
  folded.value = !folded.value
  localStorage.setItem('osprey.strip', folded.value ? 'folded' : 'open')
}

let fading = 0
function say(text: string) {
  said.value = text
  window.clearTimeout(fading)
  fading = window.setTimeout(() => (said.value = ''), 4000)
}

async function tidy() {
  try {
    ask.sheet.operation = await tidied(ask.sheet.operation)
  } catch (error) {
    say(error instanceof NoAnswer ? error.message : String(error))
  }
}

function rename(offset: number) {
  const found = renamed(ask.sheet.operation, offset, '')
  if (found) naming.value = { at: offset, was: found.was }
  else say('Put the cursor on a variable or the name of a fragment to rename it.')
}

function giveName(to: string) {
  const found = naming.value && renamed(ask.sheet.operation, naming.value.at, to)
  naming.value = undefined
  if (!found) return
  let text = ask.sheet.operation
  for (const c of [...found.changes].reverse()) text = text.slice(0, c.from) + c.insert + text.slice(c.to)
  ask.sheet.operation = text
  if (found.was in safeVariables()) {
    const { [found.was]: value, ...rest } = safeVariables()
    ask.sheet.variables = JSON.stringify({ ...rest, [to]: value }, null, 2)
  }
}

function safeVariables(): Record<string, unknown> {
  try {
    return JSON.parse(ask.sheet.variables || '{}') as Record<string, unknown>
  } catch {
    return {}
  }
}

async function link() {
  const q = new URLSearchParams({ operation: ask.sheet.operation })
  if (ask.sheet.variables.trim() !== '{}' && ask.sheet.variables.trim()) q.set('variables', ask.sheet.variables)
  const address = `${window.location.origin}${router.resolve('/').href}#${q}`
  await navigator.clipboard.writeText(address).then(() => say('The link is copied: it opens this operation with its variables.'), () => say(address))
}

/** Opens what a link has. */
function follow() {
  const q = new URLSearchParams(route.hash.slice(1))
  const text = q.get('operation')
  if (!text) return
  ask.open(text, q.get('variables') ?? '{}')
  void router.replace({ path: '/', hash: '' })
}

const measured = () => (narrow.value = window.innerWidth <= 760)
const stops = [
  onAction('run', () => void ask.begin()), onAction('plan', () => void ask.planOnly()), onAction('tidy', () => void tidy()), onAction('link', () => void link()),
  onAction('strip', fold), onAction('operation', () => editor.value?.focus()),
  onAction('variables', () => drawers.value?.turn('variables')), onAction('fields', () => drawers.value?.turn('fields')), onAction('headers', () => drawers.value?.turn('headers')), onAction('history', () => drawers.value?.turn('history')),
]
onMounted(() => {
  window.addEventListener('resize', measured)
  follow()
})
watch(() => route.hash, follow)
// Of a project without types there is nothing to be asked: what is to be done first is on the page of the start.
watch(() => ask.nothing, async (nothing) => {
  if (!nothing) return
  await types.need()
  if (types.empty && route.name === 'ask') void router.replace('/start')
}, { immediate: true })
onBeforeUnmount(() => {
  window.removeEventListener('resize', measured)
  for (const stop of stops) stop()
})
</script>

<template>
  <div class="asking">
    <SheetTabs />
    <SplitPane name="ask" label="Between operation and answer" :start="46" :narrow="narrow" class="panes">
      <template #left>
        <div class="bar">
          <v-btn v-if="!ask.run.running" variant="flat" color="primary" class="run" :prepend-icon="mdiPlay" data-test="run" title="Ctrl-Enter or Cmd-Enter" @click="ask.begin()">{{ ask.isSubscription || ask.sheet.live ? 'Follow' : 'Run' }}</v-btn>
          <v-btn v-else variant="flat" color="error" class="run" :prepend-icon="mdiStop" data-test="stop" @click="ask.stop()">Stop</v-btn>
          <v-btn :prepend-icon="mdiMapMarkerPath" data-test="plan" title="Which stores would be asked, without asking them" @click="ask.planOnly()">Plan</v-btn>
          <select v-if="ask.names.length > 1" v-model="ask.sheet.operationName" aria-label="Operation to run" class="which" data-test="which"><option v-for="n in ask.names" :key="n" :value="n">{{ n }}</option></select>
          <label v-if="!ask.isSubscription" class="live" title="Answer it again whenever something that it has read has changed" data-test="live"><input v-model="ask.sheet.live" type="checkbox" /> Live</label>
          <v-btn v-if="ask.run.events && ask.run.running" :prepend-icon="ask.run.paused ? mdiPlay : mdiPause" data-test="pause" @click="ask.pause()">{{ ask.run.paused ? 'Go on' : 'Pause' }}</v-btn>
          <span class="space" />
          <SavedMenu :text="ask.sheet.operation" :name="ask.names[0] ?? ''" @open="ask.open($event.text)" />
          <v-btn :icon="mdiFormatAlignLeft" size="x-small" aria-label="Format" title="Format (Shift-Alt-F)" data-test="tidy" @click="tidy" />
          <CallMenu :question="ask.question" :disabled="!ask.sheet.operation.trim() || ask.variablesTrouble !== ''" />
          <v-btn :icon="mdiLinkVariant" size="x-small" aria-label="Copy a link to this operation" title="Copy a link to this operation" data-test="link" @click="link" />
        </div>
        <div v-if="said" class="said" role="status" data-test="said">{{ said }}</div>
        <div class="operation"><TextEditor :key="ask.sheet.id" ref="editor" v-model="ask.sheet.operation" label="Operation" help :language="operationMode" :faults="ask.faults" :marks="marks" @run="ask.begin()" @tidy="tidy" @rename="rename" @at="at" /></div>
        <AskDrawers ref="drawers" />
      </template>
      <template #right>
        <AnswerPane :source-of="sourceFor" :enters="(place) => sources.has(place)" :is-lit="isLit" @show="editor?.goTo($event)" />
      </template>
    </SplitPane>
    <WaveStrip :calls="ask.calls" :plan="ask.run.plan" :running="ask.run.running" :millis="ask.run.millis" :lit="lit" :pinned="ask.pinned" :folded="folded" @point="pointed = $event" @pin="ask.pinned = $event" @fold="fold"><EventTicks v-if="ask.run.events" :events="ask.run.events" :chosen="ask.run.chosen" :running="ask.run.running" @choose="ask.choose($event)" /></WaveStrip>
    <RenameDialog v-if="naming" :was="naming.was" @name="giveName" @close="naming = undefined" />
  </div>
</template>

<style scoped>
.asking { display: flex; flex-direction: column; height: 100%; background: rgb(var(--v-theme-surface)); }
.panes { flex: 1; min-height: 0; }
.bar { display: flex; align-items: center; gap: 4px; height: 34px; flex: none; padding: 0 8px; border-bottom: 1px solid var(--line); }
.run { height: 26px; }
.space { flex: 1; }
.live { display: flex; align-items: center; gap: 4px; font-size: 12.5px; color: var(--quiet); padding: 0 6px; cursor: pointer; }
.which { max-width: 150px; }
.said { padding: 4px 12px; font-size: 12.5px; background: rgb(var(--v-theme-surface-variant)); overflow-wrap: anywhere; }
.operation { flex: 1; min-height: 0; }
@media (max-width: 760px) {
  .asking { height: auto; min-height: 100%; }
  .operation { flex: none; height: 300px; }
  .bar { flex-wrap: wrap; height: auto; min-height: 34px; padding: 3px 8px; }
}
</style>
