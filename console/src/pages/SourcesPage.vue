<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { NoAnswer } from '../client'
import { allSources, projectFindings, storedRows, type Finding, type Source, type Stored, type StoredSet } from '../operator'
import SourceFigures from '../components/SourceFigures.vue'
import SparkLine from '../components/SparkLine.vue'
import { knowSources, sourceColour } from '../sources'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'
import PageTrouble from '../components/PageTrouble.vue'
import { troubleOf, type Trouble } from '../trouble'
import { time } from '../words'

/** What the stores hold: whether each is well, its record sets, and the records as they are there. */
const route = useRoute()
const router = useRouter()
const ask = useAsk()
const types = useTypes()
const sources = shallowRef<Source[]>()
const findings = shallowRef<Finding[]>([])
const problem = shallowRef<Trouble>()
const rows = shallowRef<Stored>()
const rowsProblem = ref('')
const reading = ref(false)
const sort = ref('')
const offset = ref(0)
const where = ref<{ field: string; is: string; value: string }[]>([])
const words = ref('')
const limit = 50
let timer = 0

const current = computed(() => sources.value?.find((s) => s.name === route.params.source) ?? sources.value?.[0])
const set = computed<StoredSet | undefined>(() => current.value?.sets.find((s) => s.name === route.params.set))
const sets = computed(() => current.value?.sets.filter((s) => s.name.toLowerCase().includes(words.value.toLowerCase())) ?? [])
const own = computed(() => findings.value.filter((f) => f.message.includes(` ${current.value?.name}`) || current.value?.sets.some((s) => s.types?.some((t) => f.coordinate?.startsWith(`${t}.`)))))

async function look() {
  try {
    sources.value = await allSources()
    knowSources(sources.value.map((s) => s.name))
    problem.value = undefined
  } catch (error) {
    problem.value = troubleOf(error)
  }
}

async function read() {
  rowsProblem.value = ''
  if (!current.value || !set.value) {
    rows.value = undefined
    return
  }
  reading.value = true
  const { name } = set.value
  try {
    const got = await storedRows(current.value.name, { set: name, where: where.value.filter((w) => w.field && (w.value || w.is === 'missing')).map((w) => `${w.field} ${w.is} ${w.value}`), sort: sort.value, limit, offset: offset.value })
    if (set.value?.name === name) rows.value = got
  } catch (error) {
    rows.value = undefined
    rowsProblem.value = error instanceof NoAnswer ? error.message : String(error)
  } finally {
    reading.value = false
  }
}

watch(() => `${current.value?.name} ${set.value?.name}`, () => {
  sort.value = ''
  offset.value = 0
  where.value = []
  rows.value = undefined
  void read()
})

function by(field: string) {
  sort.value = sort.value === field ? `-${field}` : field
  offset.value = 0
  void read()
}

function turn(to: number) {
  offset.value = Math.max(0, to)
  void read()
}

function apply() {
  offset.value = 0
  void read()
}

const text = (v: unknown) => (v === null || v === undefined ? '' : typeof v === 'object' ? JSON.stringify(v) : String(v))

/** The root field that finds one record of the set by its key, and what it is called there. */
const finder = computed(() => {
  const s = set.value
  const root = types.types.find((t) => t.root === 'query')
  for (const name of s?.types ?? []) {
    const t = types.byName.get(name)
    const keys = s?.key?.map((k) => t?.fields?.find((f) => f.where?.split(',')[0] === `${s.name}.${k}`)?.name ?? t?.fields?.find((f) => f.name === k)?.name)
    if (!t || !keys?.length || keys.some((k) => k === undefined)) continue
    const field = root?.fields?.find((f) => !f.many && (f.of === name || t.implements?.includes(f.of)) && keys.every((k) => f.args?.some((a) => a.name === k)) && f.args?.every((a) => keys.includes(a.name) || !a.type.endsWith('!') || a.default))
    if (field) return { field, type: t, keys: keys as string[] }
  }
  return undefined
})

/** Asks for a record by an operation, to be held against the store. */
function askFor(row: unknown[]) {
  const f = finder.value
  const s = set.value
  if (!f || !s?.key || !rows.value) return
  const value = (key: string) => row[rows.value!.columns.findIndex((c) => c.name === key)]
  const args = f.keys.map((k, i) => `${k}: ${JSON.stringify(['Int', 'Float'].includes(f.field.args?.find((a) => a.name === k)?.of ?? '') ? value(s.key![i]!) : text(value(s.key![i]!)))}`)
  const leaves = (f.type.fields ?? []).filter((x) => !['OBJECT', 'INTERFACE', 'UNION'].includes(types.byName.get(x.of)?.kind ?? '') && !x.args?.some((a) => a.type.endsWith('!') && !a.default)).map((x) => x.name)
  const inner = f.field.of === f.type.name ? leaves : ['__typename', `... on ${f.type.name} {`, ...leaves.map((l) => `  ${l}`), '}']
  ask.open(`query ${f.type.name}InStore {\n  ${f.field.name}(${args.join(', ')}) {\n${inner.map((l) => `    ${l}`).join('\n')}\n  }\n}\n`)
  void router.push('/')
}

function state(s: Source): { text: string; bad: boolean } {
  if (s.problem) return { text: s.problem, bad: true }
  if (s.state?.asked === 'no') return { text: `left alone since ${new Date(s.state.since ?? '').toLocaleTimeString()}: it did not answer`, bad: true }
  if (s.state?.asked === 'probing') return { text: 'is asked again for the first time', bad: true }
  const last = s.history.at(-1)
  const failed = s.history.reduce((n, m) => n + (m.failed ?? 0), 0)
  return { text: [last ? `${time(last.mean)} at last` : 'not asked in the last hour', failed ? `${failed} failed` : ''].filter(Boolean).join(', '), bad: false }
}
const total = (s: Source) => s.history.reduce((n, m) => n + m.requests, 0)

onMounted(async () => {
  void types.need()
  timer = window.setInterval(look, 10_000)
  await look()
  void read()
  findings.value = await projectFindings().then((f) => f.findings, () => [])
})
onBeforeUnmount(() => window.clearInterval(timer))
</script>

<template>
  <div class="sources" :class="{ barred: problem && sources }">
    <PageTrouble v-if="problem" :trouble="problem" :bar="!!sources" data-test="sources-problem" />
    <p v-if="!sources && !problem" class="message">The sources are on their way.</p>
    <div v-else-if="sources && !sources.length" class="message">There is no source yet. Name one under <code>sources</code> in osprey.yaml: a database, a service, or a folder of files. <router-link to="/help/sources">How</router-link></div>
    <template v-else-if="sources">
      <nav class="list" aria-label="Sources">
        <router-link v-for="s in sources" :key="s.name" :to="`/sources/${s.name}`" class="entry" :class="{ here: s === current }" :style="{ '--source': sourceColour(s.name) }" data-test="source">
          <span class="mark" />
          <span class="name">{{ s.name }}</span><span class="quiet">{{ s.kind }}</span>
          <SparkLine :points="s.history.map((m) => ({ at: m.at, value: m.mean, wrong: (m.failed ?? 0) > 0 }))" :label="`${s.name}: how long it took, minute by minute of the last hour`" :width="66" :height="20" />
          <span class="state" :class="{ wrong: state(s).bad }">{{ state(s).text }}</span>
        </router-link>
      </nav>
      <section v-if="current" class="detail" :style="{ '--source': sourceColour(current.name) }">
        <header class="head">
          <h1><span class="dot" />{{ current.name }} <span class="quiet">{{ current.kind }}</span></h1>
          <span class="figure">{{ total(current).toLocaleString('en') }} {{ total(current) === 1 ? 'request' : 'requests' }} in the last hour</span>
          <span v-if="current.history.length" class="figure">slowest {{ time(Math.max(...current.history.map((m) => m.most))) }}</span>
          <span v-if="current.tells" class="figure">tells changes by {{ current.tells }}</span>
          <SparkLine v-if="current.history.length" :points="current.history.map((m) => ({ at: m.at, value: m.requests, wrong: (m.failed ?? 0) > 0 }))" :label="`${current.name}: requests, minute by minute of the last hour`" :width="180" :height="26" />
        </header>
        <SourceFigures :source="current" />
        <p v-if="current.problem" class="message wrong" role="alert">{{ current.problem }}. What does not need it is answered; it is looked at again every few seconds.</p>
        <details v-if="own.length" class="findings" data-test="source-findings">
          <summary>{{ own.length }} {{ own.length === 1 ? 'finding' : 'findings' }} of check</summary>
          <p v-for="(f, i) in own" :key="i"><b :class="f.severity === 'error' ? 'wrong' : 'warn'">{{ f.severity }}</b> {{ f.message }}<template v-if="f.fix"> → {{ f.fix }}</template> <code v-if="f.file">{{ f.file }}:{{ f.line }}</code></p>
        </details>
        <div class="below" :class="{ whole: !set && current.sets.length <= 12 }">
          <nav v-if="set || current.sets.length > 12" class="sets" aria-label="Record sets">
            <input v-if="current.sets.length > 12" v-model="words" type="search" class="words" placeholder="Search" aria-label="Search the record sets" />
            <router-link v-for="s in sets" :key="s.name" :to="`/sources/${current.name}/${s.name}`" class="set" :class="{ here: s === set }" data-test="set">
              <span class="set-name">{{ s.name }}</span><span class="quiet">{{ s.rows ? `~${s.rows.toLocaleString('en')}` : '' }}</span>
            </router-link>
            <p v-if="!current.sets.length && !current.problem" class="quiet none">It holds nothing yet.</p>
          </nav>
          <div v-if="set" class="content" data-test="content">
            <p class="line">
              <b>{{ set.name }}</b> <span class="quiet">{{ set.what }}<template v-if="set.key"> · key {{ set.key.join(', ') }}</template><template v-if="set.readOnly"> · cannot be written: {{ set.readOnly }}</template><template v-if="set.told"> · its changes are told</template></span>
              <router-link v-for="t in set.types" :key="t" :to="`/types/${t}`">{{ t }}</router-link>
              <span v-if="!set.types?.length" class="quiet">no type is stored here</span>
            </p>
            <p v-if="set.about" class="line">{{ set.about }}</p>
            <form class="filter" @submit.prevent="apply">
              <span v-for="(w, i) in where" :key="i" class="condition">
                <select v-model="w.field" aria-label="Field"><option v-for="f in set.fields" :key="f.name" :value="f.name">{{ f.name }}</option></select>
                <select v-model="w.is" aria-label="Comparison"><option v-for="c in ['is', 'contains', 'startsWith', 'above', 'atLeast', 'below', 'atMost', 'missing']" :key="c" :value="c">{{ c }}</option></select>
                <input v-if="w.is !== 'missing'" v-model="w.value" aria-label="Value" class="value" data-test="where-value" />
                <button type="button" class="plain link" aria-label="Leave it out" @click="where.splice(i, 1), apply()">×</button>
              </span>
              <button type="button" class="plain link" data-test="add-where" @click="where.push({ field: set.fields[0]?.name ?? '', is: 'is', value: '' })">{{ where.length ? 'and' : 'Filter' }}</button>
              <button v-if="where.length" type="submit" class="plain link" data-test="apply">Apply</button>
              <span class="space" />
              <span v-if="rows" class="quiet">{{ rows.rows.length ? `${offset + 1} to ${offset + rows.rows.length}` : 'no records' }}</span>
              <button type="button" class="plain link" :disabled="offset === 0" aria-label="The records before" @click="turn(offset - limit)">before</button>
              <button type="button" class="plain link" :disabled="!rows?.more" aria-label="The next records" data-test="next" @click="turn(offset + limit)">next</button>
              <button type="button" class="plain link" data-test="again" title="Read them again from the store" @click="read">again</button>
            </form>
            <p v-if="rowsProblem" class="message wrong" role="alert" data-test="rows-problem">{{ rowsProblem }}</p>
            <div class="table" tabindex="0" :aria-label="`Records of ${set.name}`" role="region" :aria-busy="reading">
              <table>
                <thead>
                  <tr>
                    <th v-if="finder" />
                    <th v-for="c in rows?.columns ?? set.fields" :key="c.name" :aria-sort="sort === c.name ? 'ascending' : sort === `-${c.name}` ? 'descending' : 'none'">
                      <button type="button" class="plain" :title="[c.type, c.unique ? 'unique' : c.indexed ? 'indexed' : '', c.nullable ? 'may be null' : '', c.leads ? `leads to ${c.leads}` : '', c.about].filter(Boolean).join(', ')" data-test="stored-column" @click="by(c.name)">
                        <span class="column">{{ c.name }}{{ sort === c.name ? ' ↑' : sort === `-${c.name}` ? ' ↓' : '' }}</span><br /><span class="type">{{ c.type }}<template v-if="c.unique">, unique</template><template v-else-if="c.indexed">, indexed</template></span>
                      </button>
                    </th>
                  </tr>
                </thead>
                <tbody>
                  <tr v-for="(row, i) in rows?.rows" :key="i" data-test="stored-row">
                    <td v-if="finder"><button type="button" class="plain link" :title="`Ask for this ${finder.type.name} by an operation`" data-test="ask-for" @click="askFor(row)">ask</button></td>
                    <td v-for="(v, j) in row" :key="j" :class="{ null: v === null, number: typeof v === 'number' }" :title="text(v).length > 40 ? text(v) : undefined">{{ v === null ? 'null' : text(v) }}</td>
                  </tr>
                </tbody>
              </table>
            </div>
            <p v-if="rows" class="line quiet">read from the store just now: {{ rows.asks }}{{ rows.here ? '; it gave all of them, and they were sorted and cut here' : '' }}</p>
          </div>
          <div v-else-if="current.sets.length" class="table catalogue" tabindex="0" role="region" :aria-label="`What ${current.name} holds`">
            <table data-test="catalogue">
              <thead><tr><th>holds</th><th class="number">about</th><th>key</th><th>indexed</th><th>leads to</th><th>as</th></tr></thead>
              <tbody>
                <tr v-for="s in sets" :key="s.name">
                  <td><router-link :to="`/sources/${current.name}/${s.name}`">{{ s.name }}</router-link> <span class="quiet">{{ s.what }}{{ s.readOnly ? ', read only' : '' }}</span></td>
                  <td class="number">{{ s.rows?.toLocaleString('en') }}</td>
                  <td class="mono">{{ s.key?.join(', ') }}</td>
                  <td class="mono">{{ s.fields.filter((f) => (f.indexed || f.unique) && !(s.key?.length === 1 && s.key[0] === f.name)).map((f) => f.name).join(', ') }}</td>
                  <td class="mono">{{ [...new Set(s.fields.map((f) => f.leads?.split('.').slice(0, -1).join('.')).filter(Boolean))].join(', ') }}</td>
                  <td><router-link v-for="t in s.types" :key="t" class="type-link" :to="`/types/${t}`">{{ t }}</router-link></td>
                </tr>
              </tbody>
            </table>
          </div>
        </div>
      </section>
    </template>
  </div>
</template>

<style scoped>
.sources { display: grid; grid-template-columns: 262px minmax(0, 1fr); height: 100%; background: rgb(var(--v-theme-surface)); }
.barred { grid-template-rows: auto minmax(0, 1fr); }
.barred > :first-child { grid-column: 1 / -1; }
.message { padding: 10px 16px; color: var(--quiet); margin: 0; }
.sources > .message { grid-column: 1 / -1; }
.entry .quiet { overflow: hidden; text-overflow: ellipsis; }
.wrong { color: rgb(var(--v-theme-error)) !important; }
.warn { color: rgb(var(--v-theme-warning)); }
.quiet, .figure { color: var(--quiet); font-weight: 400; }
.figure { font-size: 12.5px; font-variant-numeric: tabular-nums; }
.list { border-right: 1px solid var(--line); overflow: auto; }
.entry { position: relative; display: grid; grid-template-columns: fit-content(130px) minmax(0, 1fr) auto; gap: 1px 8px; align-items: center; padding: 7px 12px 7px 14px; color: var(--ink); text-decoration: none; border-bottom: 1px solid color-mix(in srgb, var(--ink) 6%, transparent); font-size: 13px; }
.entry:hover, .set:hover { background: color-mix(in srgb, var(--ink) 5%, transparent); }
.entry.here, .set.here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 10%, transparent); }
.mark { position: absolute; left: 0; top: 0; bottom: 0; width: 4px; background: var(--source); }
.name { font-weight: 600; min-width: 0; overflow: hidden; text-overflow: ellipsis; }
.state { grid-column: 1 / -1; font-size: 12px; color: var(--quiet); overflow-wrap: anywhere; }
.detail { min-width: 0; min-height: 0; display: flex; flex-direction: column; }
.head { display: flex; flex-wrap: wrap; gap: 4px 18px; align-items: center; padding: 8px 16px; border-bottom: 1px solid var(--line); }
h1 { margin: 0; font-size: 16px; display: flex; gap: 8px; align-items: center; }
.dot { width: 10px; height: 10px; border-radius: 2px; background: var(--source); }
.findings { padding: 4px 16px; border-bottom: 1px solid var(--line); font-size: 12.5px; }
.findings p { margin: 3px 0; }
summary { cursor: pointer; color: rgb(var(--v-theme-warning)); }
.below { flex: 1; min-height: 0; display: grid; grid-template-columns: 190px minmax(0, 1fr); }
.below.whole { grid-template-columns: minmax(0, 1fr); }
.sets { border-right: 1px solid var(--line); overflow: auto; padding: 4px 0; }
.words { width: calc(100% - 16px); margin: 4px 8px; height: 24px; border: 1px solid var(--line); border-radius: 4px; padding: 0 8px; color: inherit; background: transparent; }
.set { display: flex; gap: 8px; justify-content: space-between; padding: 2px 12px; font-size: 13px; color: var(--ink); text-decoration: none; font-variant-numeric: tabular-nums; }
.set-name { overflow: hidden; text-overflow: ellipsis; }
.set .quiet { font-size: 12px; }
.none { padding: 4px 12px; }
.content { min-width: 0; min-height: 0; display: flex; flex-direction: column; }
.line { margin: 0; padding: 5px 12px; font-size: 12.5px; display: flex; flex-wrap: wrap; gap: 2px 10px; }
a:not(.entry):not(.set), .link { color: rgb(var(--v-theme-primary)); }
.link:disabled { color: var(--quiet); cursor: default; opacity: 0.6; }
.filter { display: flex; flex-wrap: wrap; gap: 4px 12px; align-items: center; padding: 3px 12px; font-size: 12.5px; min-height: 30px; border-bottom: 1px solid var(--line); }
.condition { display: flex; gap: 4px; align-items: center; }
.value { border: 1px solid var(--line); border-radius: 4px; height: 24px; padding: 0 6px; width: 130px; color: inherit; background: transparent; }
.value:focus-visible, .words:focus-visible, .table:focus-visible, .entry:focus-visible, .set:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.space { flex: 1; }
.table { flex: 1; min-height: 0; overflow: auto; }
table { border-collapse: separate; border-spacing: 0; font-size: 12.5px; }
th { position: sticky; top: 0; background: rgb(var(--v-theme-surface)); text-align: left; padding: 3px 12px 3px 8px; border-bottom: 1px solid var(--line); font-weight: 400; white-space: nowrap; }
.column { font-weight: 600; }
.type { font-size: 11.5px; color: var(--quiet); }
td { padding: 2px 12px 2px 8px; border-bottom: 1px solid color-mix(in srgb, var(--ink) 5%, transparent); white-space: nowrap; max-width: 320px; overflow: hidden; text-overflow: ellipsis; font-variant-numeric: tabular-nums; }
.number { text-align: right; }
.null { color: var(--quiet); font-style: italic; }
.catalogue table { width: 100%; }
.catalogue th { font-weight: 600; font-size: 12px; color: var(--quiet); padding: 4px 12px; }
.catalogue td { padding: 4px 12px; max-width: 260px; }
.catalogue .mono { font-size: 11.5px; }
.catalogue .number { text-align: right; }
.type-link { margin-right: 8px; }
@media (max-width: 900px) {
  .sources { grid-template-columns: minmax(0, 1fr); height: auto; }
  .list { border-right: 0; max-height: 230px; border-bottom: 1px solid var(--line); }
  .below { grid-template-columns: minmax(0, 1fr); }
  .sets { border-right: 0; max-height: 150px; border-bottom: 1px solid var(--line); }
  .table { max-height: 70vh; }
}
</style>
