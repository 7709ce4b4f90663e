<script setup lang="ts">
import ELK, { type ElkNode } from 'elkjs/lib/elk-api'
import { mdiDownload, mdiFitToPageOutline, mdiMinus, mdiPlus } from '@mdi/js'
import { computed, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import type { SchemaType } from '../client'
import { sourceColour } from '../sources'

/** The types and how they lead to each other, each in the colour of its source. */
const props = defineProps<{ types: SchemaType[]; current?: string }>()
const emit = defineEmits<{ open: [name: string]; wide: [on: boolean] }>()

interface Box {
  name: string
  source?: string
  abstract: boolean
  x: number
  y: number
  width: number
  height: number
}
interface Edge {
  from: string
  to: string
  labels: string[]
  many: boolean
  is: boolean // an implementation or member
  path: string
}

const host = useTemplateRef<SVGSVGElement>('host')
const boxes = shallowRef<Box[]>([])
const edges = shallowRef<Edge[]>([])
const size = ref({ width: 0, height: 0 })
const view = ref({ x: 0, y: 0, k: 1 })
const working = ref(false)
const hidden = ref(new Set<string>())
const near = ref(true)
const pointed = ref('')
let elk: InstanceType<typeof ELK> | undefined
let turn = 0

const shown = (t: SchemaType) => (t.kind === 'OBJECT' || t.kind === 'INTERFACE' || t.kind === 'UNION') && !t.root && !/(Connection|Edge)$/.test(t.name) && t.name !== 'PageInfo'
const sources = computed(() => [...new Set(props.types.filter(shown).map((t) => t.source ?? ''))].sort())

/** What leads from type to type. What a page of records leads to, its records do. */
function relations(list: SchemaType[]): Omit<Edge, 'path'>[] {
  const byName = new Map(props.types.map((t) => [t.name, t]))
  const names = new Set(list.map((t) => t.name))
  const found = new Map<string, Omit<Edge, 'path'>>()
  const add = (from: string, to: string, label: string, many: boolean, is: boolean) => {
    const key = `${from} ${to} ${is}`
    const own = found.get(key) ?? { from, to, labels: [], many: false, is }
    if (label) own.labels.push(label)
    own.many ||= many
    found.set(key, own)
  }
  const target = (name: string): [string, boolean] => {
    const inner = byName.get(name)?.fields?.find((f) => f.name === 'edges' || f.name === 'nodes')
    const node = inner && (byName.get(inner.of)?.fields?.find((f) => f.name === 'node')?.of ?? inner.of)
    return /Connection$/.test(name) && node ? [node, true] : [name, false]
  }
  for (const t of list) {
    for (const f of t.fields ?? []) {
      const [to, page] = target(f.of)
      if (names.has(to)) add(t.name, to, f.name, f.many === true || page, false)
    }
    for (const m of t.members ?? []) if (names.has(m)) add(m, t.name, '', false, true)
  }
  return [...found.values()]
}

async function draw() {
  const own = ++turn
  let list = props.types.filter((t) => shown(t) && !hidden.value.has(t.source ?? ''))
  let links = relations(list)
  if (near.value && props.current && list.some((t) => t.name === props.current)) {
    const close = new Set([props.current, ...links.flatMap((e) => (e.from === props.current ? [e.to] : e.to === props.current ? [e.from] : []))])
    list = list.filter((t) => close.has(t.name))
    links = links.filter((e) => e.from === props.current || e.to === props.current)
  }
  working.value = true
  elk ??= new ELK({ workerFactory: () => new Worker(new URL('elkjs/lib/elk-worker.min.js', import.meta.url)) })
  const graph: ElkNode = {
    id: 'all',
    layoutOptions: {
      'elk.algorithm': 'layered', 'elk.direction': 'RIGHT', 'elk.layered.spacing.nodeNodeBetweenLayers': '46', 'elk.spacing.nodeNode': '12', 'elk.spacing.edgeNode': '10',
      'elk.edgeRouting': list.length > 120 ? 'POLYLINE' : 'SPLINES', 'elk.layered.thoroughness': list.length > 120 ? '1' : '7', 'elk.separateConnectedComponents': 'true', 'elk.aspectRatio': near.value ? '0.8' : '1.5',
    },
    children: list.map((t) => ({ id: t.name, width: Math.max(60, 7.4 * t.name.length + 26), height: 26 })),
    edges: links.map((e, i) => ({ id: String(i), sources: [e.from], targets: [e.to] })),
  }
  const laid = await elk.layout(graph).catch(() => undefined)
  if (own !== turn) return
  working.value = false
  if (!laid) return
  const byName = new Map(list.map((t) => [t.name, t]))
  boxes.value = (laid.children ?? []).map((n) => ({
    name: n.id, source: byName.get(n.id)?.source, abstract: byName.get(n.id)?.kind !== 'OBJECT', x: n.x ?? 0, y: n.y ?? 0, width: n.width ?? 0, height: n.height ?? 0,
  }))
  edges.value = (laid.edges ?? []).map((e) => {
    const link = links[Number(e.id)]!
    const s = e.sections?.[0]
    if (!s) return { ...link, path: '' }
    const points = [s.startPoint, ...(s.bendPoints ?? []), s.endPoint]
    let path = `M${points[0]!.x},${points[0]!.y}`
    if (list.length > 120) for (const p of points.slice(1)) path += ` L${p.x},${p.y}`
    else {
      let i = 1
      for (; i + 2 < points.length; i += 3) path += ` C${points[i]!.x},${points[i]!.y} ${points[i + 1]!.x},${points[i + 1]!.y} ${points[i + 2]!.x},${points[i + 2]!.y}`
      for (; i < points.length; i++) path += ` L${points[i]!.x},${points[i]!.y}`
    }
    return { ...link, path }
  })
  size.value = { width: laid.width ?? 0, height: laid.height ?? 0 }
  await nextTick()
  fit()
}

function fit() {
  const box = host.value?.getBoundingClientRect()
  if (!box || !size.value.width) return
  const k = Math.min(1.15, (box.width - 24) / size.value.width, (box.height - 24) / size.value.height)
  view.value = { k, x: (box.width - size.value.width * k) / 2, y: (box.height - size.value.height * k) / 2 }
}

function zoom(by: number, cx?: number, cy?: number) {
  const box = host.value?.getBoundingClientRect()
  if (!box) return
  const x = cx ?? box.width / 2
  const y = cy ?? box.height / 2
  const k = Math.min(3, Math.max(0.05, view.value.k * by))
  const ratio = k / view.value.k
  view.value = { k, x: x - (x - view.value.x) * ratio, y: y - (y - view.value.y) * ratio }
}

function wheel(event: WheelEvent) {
  const box = host.value!.getBoundingClientRect()
  zoom(Math.exp(-event.deltaY / 500), event.clientX - box.left, event.clientY - box.top)
}

function drag(event: PointerEvent) {
  const start = { x: event.clientX - view.value.x, y: event.clientY - view.value.y }
  const move = (e: PointerEvent) => (view.value = { ...view.value, x: e.clientX - start.x, y: e.clientY - start.y })
  window.addEventListener('pointermove', move)
  window.addEventListener('pointerup', () => window.removeEventListener('pointermove', move), { once: true })
}

function keys(event: KeyboardEvent) {
  const step = { ArrowLeft: [40, 0], ArrowRight: [-40, 0], ArrowUp: [0, 40], ArrowDown: [0, -40] }[event.key]
  if (step) view.value = { ...view.value, x: view.value.x + step[0]!, y: view.value.y + step[1]! }
  else if (event.key === '+') zoom(1.2)
  else if (event.key === '-') zoom(1 / 1.2)
  else if (event.key === '0') fit()
  else return
  event.preventDefault()
}

function hide(source: string) {
  const next = new Set(hidden.value)
  if (next.has(source)) next.delete(source)
  else next.add(source)
  hidden.value = next
}

/** Saves the map as a drawing that stands for itself. */
function save() {
  const style = getComputedStyle(host.value!)
  const ink = style.getPropertyValue('--ink')
  const escaped = (text: string) => text.replace(/[&<>"]/g, (c) => ({ '&': '&amp;', '<': '&lt;', '>': '&gt;', '"': '&quot;' })[c] ?? c)
  const colour = (source?: string) => (source ? style.getPropertyValue(sourceColour(source).slice(4, -1)) : style.getPropertyValue('--quiet'))
  const text = [
    `<svg xmlns="http://www.w3.org/2000/svg" viewBox="-10 -10 ${size.value.width + 20} ${size.value.height + 20}" font-family="sans-serif" font-size="12.5">`,
    ...edges.value.map((e) => `<path d="${e.path}" fill="none" stroke="${ink}" stroke-opacity="0.45"${e.is ? ' stroke-dasharray="3 3"' : ''}><title>${escaped(`${e.from} ${e.labels.join(', ')} ${e.to}`)}</title></path>`),
    ...boxes.value.map((b) => `<g><rect x="${b.x}" y="${b.y}" width="${b.width}" height="${b.height}" rx="3" fill="#fff" stroke="${colour(b.source)}"/><rect x="${b.x}" y="${b.y}" width="4" height="${b.height}" fill="${colour(b.source)}"/><text x="${b.x + 12}" y="${b.y + 17}" fill="#1b2426">${escaped(b.name)}</text></g>`),
    '</svg>',
  ].join('\n')
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([text], { type: 'image/svg+xml' }))
  link.download = 'types.svg'
  link.click()
  window.setTimeout(() => URL.revokeObjectURL(link.href), 1000)
}

const focus = computed(() => pointed.value || props.current || '')
const isNear = (name: string) => !focus.value || name === focus.value || edges.value.some((e) => (e.from === focus.value && e.to === name) || (e.to === focus.value && e.from === name))
const touches = (e: Edge) => e.from === focus.value || e.to === focus.value
const told = computed(() => edges.value.filter((e) => pointed.value && touches(e) && e.labels.length).map((e) => `${e.from} → ${e.to}: ${e.labels.join(', ')}`))

const sized = new ResizeObserver(() => fit())
onMounted(() => host.value && sized.observe(host.value))
onBeforeUnmount(() => {
  sized.disconnect()
  elk?.terminateWorker()
})
watch(near, (on) => emit('wide', !on))
watch(() => [props.types, hidden.value, near.value, near.value ? props.current : ''], () => void draw(), { immediate: true })
</script>

<template>
  <div class="map">
    <div class="bar">
      <label class="near"><input v-model="near" type="checkbox" data-test="map-near" /> <span class="around" :title="current">around {{ current }}</span></label>
      <span class="space" />
      <button type="button" class="tool" aria-label="Smaller" title="Smaller (-)" @click="zoom(1 / 1.3)"><v-icon :icon="mdiMinus" size="16" /></button>
      <button type="button" class="tool" aria-label="Larger" title="Larger (+)" @click="zoom(1.3)"><v-icon :icon="mdiPlus" size="16" /></button>
      <button type="button" class="tool" aria-label="All of it" title="All of it (0)" @click="fit"><v-icon :icon="mdiFitToPageOutline" size="16" /></button>
      <button type="button" class="tool" aria-label="Save as SVG" title="Save as SVG" data-test="map-save" @click="save"><v-icon :icon="mdiDownload" size="16" /></button>
    </div>
    <svg ref="host" class="drawing" tabindex="0" role="group" aria-label="Map of the types" data-test="map" @wheel.prevent="wheel" @pointerdown="drag" @keydown="keys">
      <g :transform="`translate(${view.x},${view.y}) scale(${view.k})`">
        <path v-for="(e, i) in edges" :key="i" :d="e.path" class="edge" :class="{ touched: touches(e), is: e.is, many: e.many }" />
        <g
          v-for="b in boxes" :key="b.name" class="box" :class="{ here: b.name === current, far: !isNear(b.name), abstract: b.abstract }" role="button" tabindex="0" :aria-label="b.name" data-test="map-type"
          :style="{ '--source': b.source ? sourceColour(b.source) : 'var(--quiet)' }" @pointerenter="pointed = b.name" @pointerleave="pointed = ''" @click="emit('open', b.name)" @keydown.enter="emit('open', b.name)"
        >
          <rect :x="b.x" :y="b.y" :width="b.width" :height="b.height" rx="3" class="frame" />
          <rect :x="b.x" :y="b.y" width="4" :height="b.height" class="mark" />
          <text :x="b.x + 12" :y="b.y + 17.5">{{ b.name }}</text>
        </g>
      </g>
    </svg>
    <div class="foot">
      <button v-for="s in sources" :key="s" type="button" class="source" :aria-pressed="!hidden.has(s)" :class="{ off: hidden.has(s) }" :style="{ '--source': s ? sourceColour(s) : 'var(--quiet)' }" :title="s" data-test="map-source" @click="hide(s)"><span class="dot" /><span class="around">{{ s || 'no store' }}</span></button>
      <span v-if="working" class="quiet">laying it out …</span>
      <span class="told">{{ told.join(' · ') }}</span>
    </div>
  </div>
</template>

<style scoped>
.around { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; min-width: 0; max-width: 220px; }
.map { display: flex; flex-direction: column; height: 100%; min-height: 320px; background: rgb(var(--v-theme-background)); }
.bar, .foot { display: flex; align-items: center; gap: 8px; min-height: 34px; padding: 0 10px; flex: none; font-size: 12.5px; background: rgb(var(--v-theme-surface)); }
.bar { border-bottom: 1px solid var(--line); }
.foot { border-top: 1px solid var(--line); flex-wrap: wrap; gap: 2px 10px; padding: 4px 10px; }
.near { display: flex; gap: 5px; align-items: center; cursor: pointer; }
.space { flex: 1; }
.tool, .source { all: unset; cursor: pointer; color: var(--quiet); display: flex; align-items: center; gap: 5px; padding: 2px; }
.source { color: var(--ink); font-size: 12px; }
.source.off { color: var(--quiet); text-decoration: line-through; }
.dot { width: 9px; height: 9px; border-radius: 2px; background: var(--source); }
.off .dot { background: transparent; box-shadow: inset 0 0 0 1.5px var(--source); }
.tool:focus-visible, .source:focus-visible, .drawing:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.drawing { flex: 1; min-height: 0; width: 100%; cursor: grab; touch-action: none; }
.edge { fill: none; stroke: var(--ink); stroke-opacity: 0.22; }
.edge.is { stroke-dasharray: 3 3; }
.edge.touched { stroke-opacity: 0.8; stroke-width: 1.4; }
.box { cursor: pointer; outline: none; }
.frame { fill: rgb(var(--v-theme-surface)); stroke: var(--source); }
.abstract .frame { stroke-dasharray: 4 2; }
.here .frame { stroke-width: 2.5; }
.box:focus-visible .frame { stroke: rgb(var(--v-theme-primary)); stroke-width: 3; }
.mark { fill: var(--source); }
text { font-size: 12.5px; fill: var(--ink); pointer-events: none; }
.far text { fill: var(--quiet); }
.far .frame { stroke-opacity: 0.5; }
.quiet, .told { color: var(--quiet); font-size: 12px; }
.told { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; min-width: 0; flex: 1; }
</style>
