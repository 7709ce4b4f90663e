<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRouter } from 'vue-router'
import { explain, tidied, type Explanation } from '../client'
import { traffic, trafficOf, unasked, type OneOperation, type Tally, type Traffic } from '../operator'
import HourBars from '../components/HourBars.vue'
import WaveStrip from '../components/WaveStrip.vue'
import { definitions, operationOf } from '../editor/selection'
import { useAsk } from '../stores/ask'
import PageTrouble from '../components/PageTrouble.vue'
import { troubleOf, type Trouble } from '../trouble'
import { time } from '../words'

/** What is asked: what costs most first, one operation with what it asks the stores, and what nobody asks. */
const router = useRouter()
const ask = useAsk()
const got = shallowRef<Traffic>()
const problem = shallowRef<Trouble>()
const within = ref('24h')
const client = ref('')
const clients = ref<string[]>([])
const code = ref('')
const by = ref<'cost' | 'asked' | 'slow' | 'requests' | 'failed'>('cost')
const chosen = ref<string>()
const plan = shallowRef<Explanation>()
const one = shallowRef<OneOperation>()
const unused = shallowRef<string[]>()
const pinned = ref<number>()
const pointed = ref<number>()
const text = ref('')
let timer = 0

async function lookAt(o: Tally) {
  const found = await trafficOf(o.id, within.value).catch(() => undefined)
  if (chosen.value === o.id) one.value = found
}

async function look() {
  try {
    if (current.value) void lookAt(current.value)
    got.value = await traffic(within.value, client.value)
    if (!client.value) clients.value = [...new Set(got.value.operations.flatMap((o) => Object.keys(o.clients)))].sort()
    problem.value = undefined
  } catch (error) {
    problem.value = troubleOf(error)
  }
}

const worth = {
  cost: (o: Tally) => o.asked * o.p50,
  asked: (o: Tally) => o.asked,
  slow: (o: Tally) => o.p95,
  requests: (o: Tally) => o.requests / Math.max(1, o.asked),
  failed: (o: Tally) => o.failed,
}
const orders = [
  { name: 'cost', title: 'takes most time' }, { name: 'asked', title: 'asked most' }, { name: 'slow', title: 'slowest' },
  { name: 'requests', title: 'most store requests' }, { name: 'failed', title: 'fails most' },
] as const
const list = computed(() => [...(got.value?.operations ?? [])].filter((o) => (by.value !== 'failed' || o.failed) && (!code.value || o.codes[code.value])).sort((a, b) => worth[by.value](b) - worth[by.value](a)))
const most = computed(() => Math.max(1e-9, ...list.value.map(worth[by.value])))
const current = computed(() => list.value.find((o) => o.id === chosen.value))
const span = computed(() => ({ '1h': 2, '24h': 24 })[within.value] ?? 168)
/** The store requests as they usually are; averages, to a tenth. */
const usual = computed(() => {
  const all = Math.max(1, ...(one.value?.made ?? []).map((m) => m.asked))
  const tenth = (n: number) => (n < 10 ? Math.round(10 * n) / 10 : Math.round(n))
  return (one.value?.made ?? []).map((m) => ({ ...m, requests: tenth(m.requests), keys: tenth(m.keys), records: tenth(m.records), failed: m.failed === m.asked, usually: { share: m.asked / all, failed: m.failed / m.asked, most: m.most } }))
})
/** Codes of errors, the most frequent first; and the hours, of one code what failed with it. */
const allCodes = computed(() => {
  const sums = new Map<string, number>()
  for (const o of got.value?.operations ?? []) for (const [c, n] of Object.entries(o.codes)) sums.set(c, (sums.get(c) ?? 0) + n)
  return [...sums].sort((a, b) => b[1] - a[1]).map(([c]) => c)
})
const hours = computed(() => (got.value?.hours ?? []).map((h) => (code.value ? { ...h, asked: h.codes[code.value] ?? 0, failed: h.codes[code.value] ?? 0 } : h)))
const codes = computed(() => Object.entries(current.value?.codes ?? {}).sort((a, b) => b[1] - a[1]))
const samples = (code: string) => one.value?.samples.filter((s) => s.code === code) ?? []
const groups = computed(() => {
  const found = new Map<string, string[]>()
  for (const c of unused.value ?? []) {
    const [type = '', field = ''] = c.split('.')
    found.set(type, [...(found.get(type) ?? []), field])
  }
  return [...found]
})

/** Values for the variables of a normal form, so that it can be planned: the least that their types take. */
function values(o: Tally): Record<string, unknown> {
  const own = operationOf(definitions(o.text ?? ''))
  return Object.fromEntries((own?.variables ?? []).filter((v) => v.type.endsWith('!') && v.fallback === undefined).map((v) => [v.name, v.type.startsWith('[') ? [] : v.type === 'Int!' ? 10 : v.type === 'Float!' ? 1 : v.type === 'Boolean!' ? true : '1']))
}

watch(chosen, async (id) => {
  plan.value = undefined
  pinned.value = undefined
  one.value = undefined
  const o = current.value
  if (o) void lookAt(o)
  text.value = o?.text ?? ''
  if (!o?.text) return
  text.value = await tidied(o.text).catch(() => o.text ?? '')
  const told = await explain({ query: o.text, variables: values(o) }, {}, new AbortController().signal).catch(() => undefined)
  if (told && 'waves' in told && chosen.value === id) plan.value = told
})

function open(o: Tally) {
  ask.open(text.value, JSON.stringify(values(o), null, 2))
  void router.push('/')
}

const titleOf = (o: Tally) => o.name || o.text?.slice(0, 60) || (o.failed === o.asked ? 'refused before it ran' : 'too long to be kept')
const each = (n: number, o: Tally) => (n / Math.max(1, o.asked)).toLocaleString('en', { maximumFractionDigits: 1 })
const moment = new Intl.DateTimeFormat(undefined, { month: 'short', day: 'numeric', hour: '2-digit', minute: '2-digit', second: '2-digit' })
/** A path as the answer's tree writes it; it may have been cut. */
function place(path: string): string {
  try {
    return (JSON.parse(path) as (string | number)[]).join('.')
  } catch {
    return path
  }
}
const clock = new Intl.DateTimeFormat(undefined, { weekday: 'short', hour: '2-digit', minute: '2-digit' })

watch([within, client], () => void look())
onMounted(async () => {
  timer = window.setInterval(look, 15_000)
  await look()
  unused.value = await unasked('720h').catch(() => undefined)
})
onBeforeUnmount(() => window.clearInterval(timer))
</script>

<template>
  <div class="traffic">
    <PageTrouble v-if="problem" :trouble="problem" :bar="!!got" data-test="traffic-problem" />
    <template v-if="!problem || got">
      <div class="bar">
        <label>Within <select v-model="within" aria-label="Within"><option value="1h">an hour</option><option value="24h">a day</option><option value="168h">a week</option></select></label>
        <label>Client <select v-model="client" aria-label="Client" data-test="client"><option value="">all</option><option v-for="c in clients" :key="c" :value="c">{{ c }}</option></select></label>
        <label>Failed with <select v-model="code" aria-label="Code" data-test="code"><option value="">anything, or not</option><option v-for="c in allCodes" :key="c" :value="c">{{ c }}</option></select></label>
        <label>First <select v-model="by" aria-label="Order" data-test="order"><option v-for="o in orders" :key="o.name" :value="o.name">{{ o.title }}</option></select></label>
        <span class="space" />
        <HourBars :hours="hours" :span="span" label="Asked in each hour" />
      </div>
      <div class="below">
        <div class="list">
          <p v-if="!got" class="message">What is asked is on its way.</p>
          <p v-else-if="!list.length" class="message">{{ client || code ? 'Nothing of this was asked within the time.' : by === 'failed' ? 'Nothing has failed.' : 'Nothing was asked yet. What clients ask is counted here within some seconds.' }}</p>
          <table v-if="list.length">
            <thead><tr><th>operation</th><th class="n">asked</th><th class="n">failed</th><th class="n">half within</th><th class="n">95 % within</th><th class="n">store requests</th><th class="n">records</th><th v-if="!current">last</th></tr></thead>
            <tbody>
              <tr v-for="o in list" :key="o.id" :class="{ here: o.id === chosen }" data-test="tally" @click="chosen = o.id">
                <td class="name"><button type="button" class="plain" :aria-expanded="o.id === chosen" @click.stop="chosen = chosen === o.id ? undefined : o.id">{{ titleOf(o) }}</button> <span class="quiet">{{ o.kind === 'query' ? '' : o.kind }}</span><i class="share" :style="{ width: `${(100 * worth[by](o)) / most}%` }" /></td>
                <td class="n">{{ o.asked.toLocaleString('en') }}</td>
                <td class="n" :class="{ wrong: o.failed }">{{ o.failed || '' }}</td>
                <td class="n">{{ time(o.p50) }}</td>
                <td class="n">{{ time(o.p95) }}</td>
                <td class="n">{{ each(o.requests, o) }}</td>
                <td class="n">{{ each(o.records, o) }}</td>
                <td v-if="!current" class="quiet">{{ clock.format(new Date(o.last)) }}</td>
              </tr>
            </tbody>
          </table>
          <details v-if="unused?.length" class="unused" data-test="unused">
            <summary>{{ unused.length }} {{ unused.length === 1 ? 'field' : 'fields' }} nobody has asked for in 30 days</summary>
            <p v-for="[type, fields] in groups" :key="type"><router-link :to="`/types/${type}`">{{ type }}</router-link> <router-link v-for="f in fields" :key="f" class="quiet" :to="`/types/${type}.${f}`">{{ f }}</router-link></p>
          </details>
        </div>
        <aside v-if="current" class="one" data-test="tally-one">
          <header><h1>{{ titleOf(current) }}</h1><span class="space" /><button type="button" class="plain link" data-test="tally-ask" :disabled="!current.text" @click="open(current)">Open in Ask</button></header>
          <p class="line"><span class="quiet">asked by</span> <span v-for="(n, name) in current.clients" :key="name">{{ name || 'unnamed' }} {{ n.toLocaleString('en') }}</span></p>
          <HourBars v-if="one?.hours.length" :hours="one.hours" :span="span" label="Of this operation, in each hour" />
          <section v-for="[code, n] in codes" :key="code" class="errors" data-test="errors">
            <h2><router-link class="wrong" :to="{ path: '/help/errors', hash: `#${code.toLowerCase()}` }">{{ code }}</router-link> <span class="quiet">{{ n.toLocaleString('en') }} {{ n === 1 ? 'time' : 'times' }}{{ samples(code).length && samples(code).length < n ? `, the last ${samples(code).length}` : '' }}</span></h2>
            <div v-for="(s, i) in samples(code)" :key="i" class="sample" data-test="sample">
              <p>{{ s.message }}</p>
              <p class="quiet"><time :datetime="s.at">{{ moment.format(new Date(s.at)) }}</time> {{ s.client || 'unnamed' }} <span v-if="s.path" class="mono">{{ place(s.path) }}</span> <span v-if="s.request" title="The id of the request: the service's log has the rest">request <code>{{ s.request }}</code></span></p>
            </div>
          </section>
          <pre tabindex="0" aria-label="The operation">{{ text || 'Its text is not kept.' }}</pre>
        </aside>
      </div>
      <WaveStrip v-if="current && (plan || usual.length)" :calls="usual" :plan="plan" :running="false" :millis="0" :lit="pointed === undefined ? [] : [pointed]" :pinned="pinned" :folded="false" @point="pointed = $event" @pin="pinned = $event" @fold="chosen = undefined" />
    </template>
  </div>
</template>

<style scoped>
.traffic { height: 100%; display: flex; flex-direction: column; background: rgb(var(--v-theme-surface)); }
.message { padding: 10px 16px; color: var(--quiet); margin: 0; }
.wrong { color: rgb(var(--v-theme-error)) !important; }
.quiet { color: var(--quiet); }
.bar { display: flex; flex-wrap: wrap; gap: 6px 18px; align-items: center; padding: 6px 16px; border-bottom: 1px solid var(--line); font-size: 12.5px; }
.bar label { color: var(--quiet); }
.bar select { color: var(--ink); }
.space { flex: 1; }
.below { flex: 1; min-height: 0; display: flex; }
.list { flex: 1; min-width: 0; overflow: auto; }
table { width: 100%; border-collapse: separate; border-spacing: 0; font-size: 13px; }
th { position: sticky; top: 0; background: rgb(var(--v-theme-surface)); text-align: left; font-weight: 600; font-size: 12px; color: var(--quiet); padding: 4px 12px; border-bottom: 1px solid var(--line); white-space: nowrap; }
td { padding: 4px 12px; border-bottom: 1px solid color-mix(in srgb, var(--ink) 6%, transparent); white-space: nowrap; }
tbody tr { cursor: pointer; }
tbody tr:hover { background: color-mix(in srgb, var(--ink) 4%, transparent); }
.here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 10%, transparent) !important; }
.n { text-align: right; font-variant-numeric: tabular-nums; }
.name { position: relative; font-weight: 600; width: 30%; max-width: 320px; overflow: hidden; text-overflow: ellipsis; }
.share { position: absolute; left: 12px; bottom: 1px; height: 2px; background: var(--quiet); max-width: calc(100% - 24px); }
.unused { padding: 10px 16px; font-size: 12.5px; }
.unused p { margin: 2px 0; display: flex; flex-wrap: wrap; gap: 2px 10px; }
summary { cursor: pointer; font-weight: 600; }
a, .link { color: rgb(var(--v-theme-primary)); text-decoration: none; }
a.quiet { color: var(--quiet); }
a:hover { text-decoration: underline; }
.one { width: 420px; flex: none; border-left: 1px solid var(--line); overflow: auto; padding: 8px 16px; }
.one header { display: flex; align-items: baseline; gap: 10px; }
h1 { font-size: 16px; margin: 0; }
.line { margin: 4px 0; font-size: 12.5px; display: flex; flex-wrap: wrap; gap: 2px 10px; }
.errors { margin: 10px 0; font-size: 12.5px; }
h2 { font-size: 12.5px; font-weight: 600; margin: 0 0 2px; }
.sample { border-left: 2px solid rgb(var(--v-theme-error)); padding: 1px 0 1px 8px; margin: 4px 0; }
.sample p { margin: 0; overflow-wrap: anywhere; }
.sample .quiet { font-size: 12px; display: flex; flex-wrap: wrap; gap: 0 10px; font-variant-numeric: tabular-nums; }
.mono, code { font-family: var(--mono); font-size: 11.5px; }
pre { font-family: var(--mono); font-size: 12px; line-height: 1.5; white-space: pre-wrap; overflow-wrap: anywhere; border: 1px solid var(--line); border-radius: 4px; padding: 8px; }
@media (max-width: 900px) {
  .traffic { height: auto; min-height: 100%; }
  .below { flex-direction: column; }
  .one { width: auto; border-left: 0; border-top: 1px solid var(--line); }
  .list { flex: none; }
}
</style>
