<script setup lang="ts">
import { mdiCheck } from '@mdi/js'
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { readiness, savedOperations } from '../client'
import { allSources, programKeys, projectFindings, roleViews, traffic, type Finding, type Source } from '../operator'
import { sourceColour } from '../sources'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'
import { count } from '../words'

/** What a project has, and what to do next: what is done is ticked, and the first step that is not stands out. */
const router = useRouter()
const ask = useAsk()
const types = useTypes()
const sources = shallowRef<Source[]>()
const ready = shallowRef<Record<string, { ready: boolean; problem?: string }>>({})
const operations = ref(0)
const first = ref('')
const findings = shallowRef<Finding[]>()
const asked = ref<number>()
const callers = ref<boolean>()
const looked = ref(false)

const own = computed(() => types.types.filter((t) => !t.root && (t.kind === 'OBJECT' || t.kind === 'INTERFACE' || t.kind === 'UNION')))
const names = computed(() => Object.keys(ready.value).sort())
const down = computed(() => names.value.filter((n) => !ready.value[n]?.ready))
/** Record sets that no type speaks of, by source. */
const untyped = computed(() => (sources.value ?? []).map((s) => ({ name: s.name, sets: s.sets.filter((t) => !t.types?.length).map((t) => t.name) })).filter((s) => s.sets.length))
const list = (all: string[], most = 4) => (all.length > most ? `${all.slice(0, most).join(', ')} and ${all.length - most} more` : all.join(', '))

interface Step {
  name: string
  title: string
  done: boolean
}
const steps = computed<Step[]>(() => [
  { name: 'sources', title: 'Say where the data is', done: names.value.length > 0 },
  { name: 'types', title: 'Write types', done: !types.empty && types.types.length > 0 },
  { name: 'ask', title: 'Ask', done: ask.past.length > 0 || (asked.value ?? 0) > 0 },
  { name: 'operations', title: 'Keep the operations that programs send', done: operations.value > 0 },
  { name: 'check', title: 'Look at what is found', done: findings.value?.length === 0 },
  { name: 'access', title: 'Say who may ask', done: callers.value === true },
  { name: 'records', title: 'Keep records', done: asked.value !== undefined },
])
const next = computed(() => (looked.value ? steps.value.find((s) => !s.done)?.name : undefined))

function askFirst() {
  if (first.value) ask.open(first.value)
  void router.push('/')
}

async function look() {
  await Promise.all([
    types.need(),
    readiness().then((r) => (ready.value = r.sources), () => undefined),
    savedOperations().then((o) => {
      operations.value = o.operations.length
      first.value = o.operations.length ? '' : o.first
    }, () => undefined),
    allSources().then((s) => (sources.value = s), () => undefined),
    projectFindings().then((f) => (findings.value = f.findings), () => undefined),
    traffic('720h', '').then((t) => (asked.value = t.operations.reduce((n, o) => n + o.asked, 0)), () => undefined),
    Promise.all([roleViews().catch(() => []), programKeys().catch(() => [])]).then(([roles, keys]) => (callers.value = roles.length > 1 || keys.length > 0)),
  ])
  looked.value = true
}

onMounted(look)
watch(() => types.all, look) // something was saved
</script>

<template>
  <div class="start">
    <article>
      <h1>{{ types.empty ? 'A new project' : 'This project' }}</h1>
      <p class="sum" data-test="start-sum">
        <template v-if="types.empty">It has no types yet, so nothing can be asked. These are the steps; each is seen here as soon as it is saved.</template>
        <template v-else-if="looked">{{ count(own.length, 'type') }} of {{ count(names.length, 'source') }}, {{ count(operations, 'operation') }} kept{{ asked === undefined ? '' : `, asked ${count(asked, 'time')} in 30 days` }}.</template>
      </p>
      <ol>
        <li v-for="(s, i) in steps" :key="s.name" :class="{ done: s.done, next: s.name === next }" :data-test="`step-${s.name}`" :aria-current="s.name === next ? 'step' : undefined">
          <span class="mark"><v-icon v-if="s.done" :icon="mdiCheck" size="16" aria-label="done" /><template v-else>{{ i + 1 }}</template></span>
          <div>
            <h2>{{ s.title }}</h2>
            <template v-if="s.name === 'sources'">
              <p v-if="names.length"><span v-for="n in names" :key="n" class="source" :style="{ '--source': sourceColour(n) }"><router-link :to="`/sources/${n}`">{{ n }}</router-link></span> {{ down.length ? `– ${list(down)} ${down.length === 1 ? 'does' : 'do'} not answer` : names.length === 1 ? '– answers' : '– all answer' }}</p>
              <template v-else><p>A database, a service, or a folder of files, in <code>osprey.yaml</code>:</p><pre>sources:
  port:
    kind: postgres
    url: ${PORT_URL}</pre></template>
              <p v-if="!s.done" class="more"><router-link to="/help/sources">Kinds of sources</router-link></p>
            </template>
            <template v-else-if="s.name === 'types'">
              <p v-if="!types.empty && own.length">{{ list(own.map((t) => t.name), 8) }}. <router-link to="/types">All of them</router-link></p>
              <p v-else>In files of <code>schema/</code>, by hand, or written for what a source holds:</p>
              <p v-if="s.done && untyped.length" class="quiet">No type speaks of {{ list(untyped.flatMap((u) => u.sets.map((t) => `${t} of ${u.name}`))) }}; <code>osprey derive</code> writes some.</p>
              <template v-if="!s.done"><div v-for="u in untyped" :key="u.name" class="line"><pre>osprey derive {{ u.name }}</pre> <span class="quiet">for {{ list(u.sets) }}</span></div></template>
              <p v-if="!s.done" class="more"><router-link to="/help/tutorial">From a table to a type</router-link> <router-link to="/help/derive">Types of what is there</router-link></p>
            </template>
            <template v-else-if="s.name === 'ask'">
              <p v-if="s.done"><button type="button" class="plain link" data-test="ask-first" @click="askFirst">Ask</button> shows what was asked last, and which store requests it takes.</p>
              <template v-else>
                <p>The console writes a first operation, and shows which store requests it takes.</p>
                <p v-if="!types.empty"><v-btn variant="flat" :color="s.name === next ? 'primary' : undefined" data-test="ask-first" @click="askFirst">Ask the first operation</v-btn></p>
              </template>
            </template>
            <template v-else-if="s.name === 'operations'">
              <p>In files of <code>operations/</code>: they are checked whenever the types change, and a program sends their name.{{ operations ? ` There ${operations === 1 ? 'is' : 'are'} ${operations}.` : '' }}</p>
              <p v-if="!s.done" class="more"><router-link to="/help/http">Asked by name</router-link></p>
            </template>
            <template v-else-if="s.name === 'check'">
              <p v-if="findings?.length === 0"><code>osprey check</code> finds nothing.</p>
              <p v-else-if="findings"><code>osprey check</code> finds {{ count(findings.length, 'thing') }}:</p>
              <p v-else><code>osprey check</code> holds types and operations against the stores.</p>
              <p v-for="(f, n) in findings?.slice(0, 3)" :key="n" class="finding"><b :class="f.severity">{{ f.severity }}</b> {{ f.message }}<template v-if="f.fix"> → {{ f.fix }}</template> <code v-if="f.file">{{ f.file }}:{{ f.line }}</code></p>
            </template>
            <template v-else-if="s.name === 'access'">
              <p v-if="callers">Keys and roles are <router-link to="/access">there</router-link>.</p>
              <p v-else>Everybody on this machine may ask everything. Before others reach it, say under <code>access</code> in <code>osprey.yaml</code> how callers are known.</p>
              <p v-if="!s.done" class="more"><router-link to="/help/access">Access</router-link> <router-link to="/help/security">Security</router-link></p>
            </template>
            <template v-else-if="s.name === 'records'">
              <p v-if="asked !== undefined">What is <router-link to="/traffic">asked</router-link> and what was <router-link to="/revisions">served</router-link> is kept.</p>
              <p v-else>With <code>records</code> in <code>osprey.yaml</code>, a PostgreSQL database keeps what is asked and what was served, and who changed it.</p>
              <p v-if="!s.done" class="more"><router-link to="/help/records">Records</router-link></p>
            </template>
          </div>
        </li>
      </ol>
      <p class="quiet">Then <router-link to="/help/deployment">serve it</router-link>.</p>
    </article>
  </div>
</template>

<style scoped>
.start { min-height: 100%; background: rgb(var(--v-theme-surface)); }
article { max-width: 760px; padding: 18px 24px 40px; }
h1 { font-size: 18px; margin: 0; font-weight: 600; }
.sum { margin: 2px 0 14px; color: var(--quiet); }
ol { list-style: none; padding: 0; margin: 0; }
li { display: grid; grid-template-columns: 34px minmax(0, 1fr); padding: 8px 12px 8px 8px; border-left: 3px solid transparent; }
li.next { border-left-color: rgb(var(--v-theme-primary)); background: color-mix(in srgb, rgb(var(--v-theme-primary)) 6%, transparent); }
.mark { width: 22px; height: 22px; border: 1px solid var(--line); border-radius: 50%; display: flex; align-items: center; justify-content: center; font-size: 12px; font-variant-numeric: tabular-nums; }
.done .mark { border-color: var(--ink); }
.next .mark { border-color: rgb(var(--v-theme-primary)); color: rgb(var(--v-theme-primary)); font-weight: 700; }
h2 { font-size: 14px; font-weight: 600; margin: 0 0 2px; line-height: 22px; }
p { margin: 2px 0; overflow-wrap: anywhere; }
.more { display: flex; flex-wrap: wrap; gap: 2px 14px; font-size: 12.5px; }
.line { display: flex; flex-wrap: wrap; gap: 2px 12px; align-items: center; }
.source { border-left: 3px solid var(--source); padding-left: 5px; margin-right: 12px; }
pre { font-family: var(--mono); font-size: 12px; line-height: 1.5; margin: 4px 0; padding: 5px 9px; border: 1px solid var(--line); border-radius: 4px; overflow: auto; }
code { font-family: var(--mono); font-size: 12.5px; }
.quiet { color: var(--quiet); }
.finding { font-size: 12.5px; }
.error { color: rgb(var(--v-theme-error)); }
.warning { color: rgb(var(--v-theme-warning)); }
a, .link { color: rgb(var(--v-theme-primary)); }
</style>
