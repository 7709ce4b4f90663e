<script setup lang="ts">
import { computed, defineAsyncComponent, nextTick, onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { SchemaType, TypeField } from '../client'
import { projectFindings, usedLately, type Finding } from '../operator'
import FieldRow from '../components/FieldRow.vue'
import SplitPane from '../components/SplitPane.vue'
import { sourceColour } from '../sources'
import { useTypes } from '../stores/types'

defineOptions({ name: 'TypesPage' })
const TypeMap = defineAsyncComponent(() => import('../components/TypeMap.vue'))

/** What the schema has: a type with its fields, what leads to it, and the map. */
const types = useTypes()
const route = useRoute()
const router = useRouter()
const words = ref('')
const narrow = ref(window.innerWidth <= 900)
const asked = shallowRef<Map<string, number>>()
const findings = shallowRef<Finding[]>([])
const detail = useTemplateRef<HTMLElement>('detail')
const entries = useTemplateRef<HTMLElement>('entries')
const at = ref(0)
const wide = ref(false) // the map has all the room

const coordinate = computed(() => (route.name === 'types' ? String(route.params.coordinate ?? '') : ''))
const current = computed<SchemaType | undefined>(() => types.byName.get(coordinate.value.split(/[.(]/)[0] ?? '') ?? (coordinate.value ? undefined : types.types[0]))
const member = computed(() => coordinate.value.split('.')[1]?.split('(')[0] ?? '')

const order = { OBJECT: 0, INTERFACE: 0, UNION: 0, ENUM: 1, INPUT_OBJECT: 2, SCALAR: 3 }
const titles = ['Types', 'Enums', 'Inputs', 'Scalars']

/** The types by what they are, or all that has the words, also in fields and descriptions. */
const groups = computed(() => {
  const list: { title: string; entries: { to: string; title: string; note: string; source?: string }[] }[] = []
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  const has = (text: string) => wanted.every((w) => text.toLowerCase().includes(w))
  if (wanted.length) {
    const found: { to: string; title: string; note: string; source?: string; worth: number }[] = []
    for (const t of types.types) {
      const own = has(t.name) ? 2 : has(`${t.name} ${t.text ?? ''}`) ? 1 : 0
      if (own) found.push({ to: t.name, title: t.name, note: t.text ?? '', source: t.source, worth: own + (t.name.toLowerCase() === words.value.toLowerCase() ? 2 : 1) })
      for (const f of t.fields ?? []) {
        const worth = has(f.name) ? 2 : has(`${f.name} ${f.text ?? ''}`) ? 1 : 0
        if (worth) found.push({ to: `${t.name}.${f.name}`, title: `${t.name}.${f.name}`, note: f.text ?? '', source: f.source, worth })
      }
    }
    found.sort((a, b) => b.worth - a.worth)
    return [{ title: `${found.length} found`, entries: found.slice(0, 200) }]
  }
  const roots = types.types.filter((t) => t.root)
  if (roots.length) list.push({ title: 'Roots', entries: roots.map((t) => ({ to: t.name, title: t.name, note: `${t.fields?.length ?? 0}` })) })
  titles.forEach((title, i) => {
    const entries = types.types.filter((t) => !t.root && order[t.kind] === i).map((t) => ({ to: t.name, title: t.name, note: '', source: t.source }))
    if (entries.length) list.push({ title, entries })
  })
  return list
})
const flat = computed(() => groups.value.flatMap((g) => g.entries))

/** The fields and arguments that lead to the type. */
const leads = computed(() => {
  const name = current.value?.name
  const fields: string[] = []
  const args: string[] = []
  for (const t of types.types) {
    for (const f of t.fields ?? []) {
      if (f.of === name) (t.kind === 'INPUT_OBJECT' ? args : fields).push(`${t.name}.${f.name}`)
      for (const a of f.args ?? []) if (a.of === name) args.push(`${t.name}.${f.name}(${a.name}:)`)
    }
  }
  return { fields, args }
})

/** What check finds at a coordinate, or at an argument there. */
const foundAt = (at: string) => findings.value.filter((f) => f.coordinate === at || f.coordinate.startsWith(`${at}(`))
const uses = (name: string) => types.all?.uses[name] ?? []
const kinds: Record<string, string> = { OBJECT: 'type', INTERFACE: 'interface', UNION: 'union', ENUM: 'enum', INPUT_OBJECT: 'input', SCALAR: 'scalar' }
const how = (f: TypeField) => `${current.value?.name}.${f.name}`

async function show() {
  await nextTick()
  const own = member.value ? document.getElementById(`field-${member.value}`) : null
  if (own) own.scrollIntoView({ block: 'center' })
  else detail.value?.scrollTo(0, 0)
  document.querySelector('.entry.here')?.scrollIntoView({ block: 'nearest' })
}
watch(() => [coordinate.value, types.all], () => void show())

function begin() {
  at.value = 0
  entries.value?.scrollTo(0, 0)
}

function open(name: string) {
  void router.push(`/types/${name}`)
}

function key(event: KeyboardEvent) {
  const by = { ArrowDown: 1, ArrowUp: -1 }[event.key]
  if (by !== undefined) {
    event.preventDefault()
    at.value = Math.min(flat.value.length - 1, Math.max(0, at.value + by))
    void nextTick(() => document.querySelector('.entry.at')?.scrollIntoView({ block: 'nearest' }))
  } else if (event.key === 'Enter' && flat.value[at.value]) void router.push(`/types/${flat.value[at.value]!.to}`)
}

const measured = () => (narrow.value = window.innerWidth <= 900)
onMounted(async () => {
  window.addEventListener('resize', measured)
  await types.need()
  void show()
  asked.value = await usedLately().catch(() => undefined)
  findings.value = await projectFindings().then((f) => f.findings, () => [])
})
onBeforeUnmount(() => window.removeEventListener('resize', measured))
</script>

<template>
  <div class="types" :class="{ narrow }">
    <nav class="list" aria-label="Types">
      <input v-model="words" type="search" class="words" placeholder="Search types, fields, descriptions" aria-label="Search types, fields, descriptions" data-test="type-words" @input="begin" @keydown="key" />
      <div ref="entries" class="entries">
        <section v-for="g in groups" :key="g.title">
          <h2>{{ g.title }}</h2>
          <router-link v-for="e in g.entries" :key="e.to" :to="`/types/${e.to}`" class="entry" :class="{ here: e.to === current?.name, at: words && e === flat[at] }" :title="e.note" data-test="type-entry">
            <span class="mark" :style="{ background: e.source ? sourceColour(e.source.split(', ')[0] ?? '') : 'transparent' }" />{{ e.title }}
          </router-link>
        </section>
      </div>
    </nav>
    <SplitPane name="types" label="Between the type and the map" :start="62" :narrow="narrow" class="rest" :class="{ wide }">
      <template #left>
        <article ref="detail" class="detail" data-test="type">
          <p v-if="types.problem" class="wrong" role="alert">{{ types.problem }}</p>
          <p v-else-if="!types.all" class="quiet">The types are on their way.</p>
          <p v-else-if="!current" class="wrong">There is no type {{ coordinate }}, or not for you.</p>
          <template v-else>
            <header>
              <h1><span class="kind">{{ kinds[current.kind] }}</span> {{ current.name }}</h1>
              <span v-if="current.source" class="stored" :style="{ '--source': sourceColour(current.source) }"><span class="dot" />{{ current.source }} · {{ current.set }}</span>
            </header>
            <p v-for="(f, i) in foundAt(current.name)" :key="i" :class="f.severity" class="about">{{ f.message }}<template v-if="f.fix"> → {{ f.fix }}</template></p>
            <p v-if="current.text" class="about">{{ current.text }}</p>
            <p v-if="current.implements?.length" class="line"><span class="quiet">implements</span> <router-link v-for="n in current.implements" :key="n" :to="`/types/${n}`">{{ n }}</router-link></p>
            <p v-if="current.members?.length" class="line"><span class="quiet">is one of</span> <router-link v-for="n in current.members" :key="n" :to="`/types/${n}`">{{ n }}</router-link></p>
            <div v-if="current.fields?.length" class="fields">
              <FieldRow
                v-for="f in current.fields" :id="`field-${f.name}`" :key="f.name" :field="f" :coordinate="how(f)" :here="f.name === member" :uses="uses(how(f))" :asked="asked?.get(how(f))" :counted="asked !== undefined" :findings="foundAt(how(f))"
              />
            </div>
            <ul v-if="current.values?.length" class="values">
              <li v-for="v in current.values" :id="`field-${v.name}`" :key="v.name" :class="{ here: v.name === member }"><code :class="{ gone: v.deprecated !== undefined }">{{ v.name }}</code> <span class="quiet">{{ v.text }}</span><span v-if="v.deprecated !== undefined" class="old">deprecated: {{ v.deprecated }}</span></li>
            </ul>
            <p v-if="leads.fields.length" class="line leads"><span class="quiet">Leads here</span> <router-link v-for="n in leads.fields" :key="n" :to="`/types/${n}`">{{ n }}</router-link></p>
            <p v-if="leads.args.length" class="line leads"><span class="quiet">Taken by</span> <router-link v-for="n in leads.args" :key="n" :to="`/types/${n.replace(/\(.*/, '')}`">{{ n }}</router-link></p>
          </template>
        </article>
      </template>
      <template #right>
        <TypeMap v-if="types.types.length" :types="types.types" :current="current?.name" @open="open" @wide="wide = $event" />
      </template>
    </SplitPane>
  </div>
</template>

<style scoped>
.types { display: grid; grid-template-columns: 232px minmax(0, 1fr); height: 100%; background: rgb(var(--v-theme-surface)); }
.types.narrow { grid-template-columns: minmax(0, 1fr); height: auto; }
.list { border-right: 1px solid var(--line); display: flex; flex-direction: column; min-height: 0; }
.narrow .list { max-height: 220px; border-right: 0; border-bottom: 1px solid var(--line); }
.words { margin: 8px; height: 26px; border: 1px solid var(--line); border-radius: 4px; padding: 0 8px; color: inherit; background: transparent; font-size: 12.5px; }
.words:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
.entries { overflow: auto; flex: 1; min-height: 0; padding-bottom: 12px; }
h2 { font-size: 11.5px; font-weight: 600; color: var(--quiet); margin: 8px 12px 2px; }
.entry { display: flex; align-items: center; gap: 7px; padding: 1px 12px 1px 0; font-size: 13px; line-height: 20px; color: var(--ink); text-decoration: none; overflow-wrap: anywhere; }
.entry:hover, .entry.at { background: color-mix(in srgb, var(--ink) 6%, transparent); }
.entry.here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 12%, transparent); font-weight: 600; }
.mark { width: 3px; align-self: stretch; margin-left: 5px; flex: none; }
.rest { min-height: 0; }
.wide:not(.narrow) { grid-template-columns: 0 0 minmax(0, 1fr) !important; }
.wide:not(.narrow) > :deep(:not(:last-child)) { visibility: hidden; overflow: hidden; }
.detail { height: 100%; overflow: auto; padding: 12px 16px 24px; }
.narrow .detail { height: auto; }
header { display: flex; flex-wrap: wrap; gap: 4px 16px; align-items: baseline; }
h1 { margin: 0; font-size: 18px; line-height: 1.3; font-weight: 600; overflow-wrap: anywhere; }
.kind { color: var(--quiet); font-weight: 400; }
.stored { color: var(--source); font-weight: 600; font-size: 12.5px; display: flex; align-items: center; gap: 6px; }
.dot { width: 9px; height: 9px; border-radius: 2px; background: var(--source); }
.about { margin: 4px 0 6px; max-width: 80ch; }
.line { margin: 2px 0; font-size: 12.5px; display: flex; flex-wrap: wrap; gap: 2px 10px; }
.leads { margin-top: 12px; }
a { color: rgb(var(--v-theme-primary)); text-decoration: none; }
a:hover { text-decoration: underline; }
.quiet { color: var(--quiet); }
.wrong { color: rgb(var(--v-theme-error)); }
.warning { color: rgb(var(--v-theme-warning)); }
.error { color: rgb(var(--v-theme-error)); }
.fields { margin-top: 8px; border-top: 1px solid var(--line); }
.values { list-style: none; padding: 0; margin: 8px 0; }
.values li { padding: 2px 0; }
.values .here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 12%, transparent); }
code { font-family: var(--mono); font-size: 12.5px; }
.gone { text-decoration: line-through; }
.old { color: rgb(var(--v-theme-warning)); margin-left: 8px; }
</style>
