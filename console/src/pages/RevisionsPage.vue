<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, shallowRef, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { NoAnswer } from '../client'
import { publishFiles, restoreRevision, revisionOf, revisions, type Difference, type Kept, type Outcome } from '../operator'
import LinesBeside from '../components/LinesBeside.vue'
import { keptDraft } from '../stores/draft'
import PageTrouble from '../components/PageTrouble.vue'
import { troubleOf, type Trouble } from '../trouble'

/** What is served and was: who changed what, and why; two side by side; what a change would break. */
const route = useRoute()
const router = useRouter()
const list = shallowRef<Kept[]>()
const serving = ref<number>()
const published = ref(0)
const problem = shallowRef<Trouble>()
const own = shallowRef<Kept>()
const other = shallowRef<Kept>()
const against = ref<number>()
const file = ref('')
const draft = keptDraft()
const editing = computed(() => draft.value !== undefined && draft.value.number === own.value?.number)
const outcome = shallowRef<Outcome>()
const tried = ref(false)
const why = ref('')
const note = computed({ get: () => (editing.value ? (draft.value?.note ?? '') : why.value), set: (text) => (editing.value && draft.value ? (draft.value.note = text) : (why.value = text)) })
const by = ref(localStorage.getItem('osprey.by') ?? '')
const busy = ref(false)
let timer = 0

async function look() {
  try {
    const got = await revisions()
    list.value = got.revisions
    serving.value = got.serving?.number
    published.value = got.published
    problem.value = undefined
  } catch (error) {
    problem.value = troubleOf(error)
  }
}

/** Where none is named, that which is being changed, else the last: another that comes meanwhile takes nobody away from what they write. */
const number = computed(() => Number(route.params.number) || draft.value?.number || list.value?.[0]?.number)
watch([number, () => list.value !== undefined], async ([n, listed]) => {
  own.value = undefined
  outcome.value = undefined
  tried.value = false
  if (!n || !listed) return
  against.value = list.value?.find((r) => r.number < n)?.number
  own.value = await revisionOf(n).catch(() => undefined)
  file.value = changed.value[0] ?? files.value[0] ?? ''
})
watch(against, async (n) => {
  other.value = n ? await revisionOf(n).catch(() => undefined) : undefined
  file.value = changed.value[0] ?? files.value[0] ?? ''
}, { immediate: true })

const files = computed(() => [...new Set([...Object.keys(own.value?.files ?? {}), ...Object.keys(other.value?.files ?? {})])].sort())
const changed = computed(() => (other.value ? files.value.filter((f) => own.value?.files?.[f] !== other.value?.files?.[f]) : []))

const classes = ['breaking', 'risky', 'safe'] as const
const of = (list: Difference[] | undefined, c: string) => (list ?? []).filter((d) => d.class === c)
const how = { files: 'from the files of the service', published: 'published', restored: 'restored' }
const when = (at: string) => new Date(at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' })

/** Leaves what was begun. */
function stop() {
  if (editing.value) draft.value = undefined
  outcome.value = undefined
  tried.value = false
}

function edit() {
  if (!own.value) return
  draft.value = { number: own.value.number, onto: published.value, files: { ...own.value.files }, note: '' }
  outcome.value = undefined
  tried.value = false
}

/** Tries what is to be served, or serves it. */
async function go(attempt: boolean, anyway = false) {
  if (!own.value) return
  busy.value = true
  localStorage.setItem('osprey.by', by.value)
  const who = by.value.trim() || 'console'
  try {
    outcome.value = editing.value && draft.value ? await publishFiles(draft.value.files, who, note.value, draft.value.onto, attempt, anyway) : await restoreRevision(own.value.number, who, note.value, attempt, anyway)
    tried.value = attempt
    if (!attempt && outcome.value.revision) {
      const now = outcome.value.revision.number
      why.value = ''
      stop()
      await look()
      await router.push(`/revisions/${now}`)
    }
  } catch (error) {
    outcome.value = { detail: error instanceof NoAnswer ? error.message : String(error) }
  }
  busy.value = false
}

/** Publishes behind what somebody else has published in the meantime. */
function behind(last: number) {
  if (draft.value) draft.value.onto = last
  void go(true)
}

onMounted(() => {
  timer = window.setInterval(look, 10_000)
  void look()
})
onBeforeUnmount(() => window.clearInterval(timer))
</script>

<template>
  <div class="revisions" :class="{ barred: problem && list }">
    <PageTrouble v-if="problem" :trouble="problem" :bar="!!list" data-test="revisions-problem" />
    <p v-if="!list && !problem" class="message">The revisions are on their way.</p>
    <p v-else-if="list && !list.length" class="message">Nothing was published yet: what is in the files of the service is served. <router-link to="/help/records">How revisions are kept</router-link></p>
    <template v-else-if="list">
      <nav class="list" aria-label="Revisions">
        <router-link v-for="r in list" :key="r.number" :to="`/revisions/${r.number}`" class="entry" :class="{ here: r.number === number }" data-test="kept">
          <b>{{ r.number }}</b> <span v-if="r.number === serving" class="live">served</span><span v-if="r.number === draft?.number" class="risky" data-test="draft">you change it</span><span class="quiet when">{{ when(r.at) }}</span>
          <span class="note">{{ r.note || how[r.origin] }}</span>
          <span class="quiet">{{ r.by }}<template v-for="c in classes" :key="c"><template v-if="of(r.differences, c).length"> · <span :class="c">{{ of(r.differences, c).length }} {{ c }}</span></template></template></span>
        </router-link>
      </nav>
      <section v-if="own" class="detail" data-test="kept-one">
        <header>
          <h1>Revision {{ own.number }}</h1>
          <span class="quiet">{{ how[own.origin] }} by {{ own.by }}, {{ when(own.at) }}</span>
          <span class="space" />
          <v-btn v-if="own.number !== serving && !editing" data-test="restore" @click="stop(), go(true)">Serve it again …</v-btn>
          <v-btn v-if="!editing" data-test="edit" @click="edit">Change it …</v-btn>
          <v-btn v-else @click="stop">Leave it</v-btn>
        </header>
        <p v-if="own.note" class="line">{{ own.note }}</p>
        <div v-for="c in classes" :key="c"><p v-if="of(own.differences, c).length" class="line"><b :class="c">{{ c }}</b><span v-for="d in of(own.differences, c)" :key="d.coordinate + d.what"><router-link :to="`/types/${d.coordinate.replace(/\(.*/, '')}`">{{ d.coordinate }}</router-link> {{ d.what }}</span></p></div>
        <div v-if="outcome || editing" class="outcome" data-test="outcome">
          <template v-if="outcome">
            <p v-if="outcome.detail" class="wrong" role="alert">{{ outcome.detail }}<template v-if="outcome.fix"> → {{ outcome.fix }}</template> <button v-if="editing && outcome.last" type="button" class="plain link" data-test="behind" @click="behind(outcome.last.number)">I have looked: publish behind revision {{ outcome.last.number }}</button></p>
            <p v-else-if="tried && !outcome.differences?.length">It would change nothing that clients see.</p>
            <p v-for="c in classes" :key="c" v-show="of(outcome.differences, c).length"><b :class="c">{{ c }}</b> {{ of(outcome.differences, c).map((d) => `${d.coordinate} ${d.what}`).join(', ') }}</p>
            <p v-for="f in outcome.findings" :key="f.message"><b :class="f.severity === 'error' ? 'wrong' : 'risky'">{{ f.severity }}</b> <code>{{ f.file }}:{{ f.line }}:{{ f.column }}</code> {{ f.message }}<template v-if="f.fix"> → {{ f.fix }}</template></p>
            <p v-for="b in outcome.broken" :key="b.id"><b class="breaking">breaks</b> {{ b.name || b.id.slice(0, 8) }}, asked {{ b.asked }} {{ b.asked === 1 ? 'time' : 'times' }} by {{ b.clients.join(', ') || 'somebody' }}: {{ b.why.join(', ') }}</p>
          </template>
          <form class="form" @submit.prevent="go(false)">
            <label>Who <input v-model="by" placeholder="your name" data-test="by" /></label>
            <label class="wide">Why <input v-model="note" placeholder="for those who look here later" data-test="note" /></label>
            <v-btn v-if="editing" :disabled="busy" data-test="try" @click="go(true)">Try it</v-btn>
            <v-btn v-if="!outcome?.broken?.length" type="submit" variant="flat" color="primary" :disabled="busy || (editing && !tried) || outcome?.detail !== undefined" data-test="serve">{{ editing ? 'Publish' : 'Serve it again' }}</v-btn>
            <v-btn v-else variant="flat" color="error" :disabled="busy" data-test="anyway" @click="go(false, true)">{{ editing ? 'Publish' : 'Serve it' }} though it breaks them</v-btn>
            <v-btn v-if="!editing" @click="stop">Leave it</v-btn>
          </form>
        </div>
        <div class="which">
          <label>File <select v-model="file" aria-label="File" data-test="file"><option v-for="f in files" :key="f" :value="f">{{ f }}{{ changed.includes(f) ? ' · differs' : '' }}</option></select></label>
          <label v-if="!editing">Beside revision <select v-model="against" aria-label="Beside revision" data-test="against"><option :value="undefined">none</option><option v-for="r in list.filter((x) => x.number !== own?.number)" :key="r.number" :value="r.number">{{ r.number }}</option></select></label>
          <span class="quiet">{{ other && !editing ? (changed.length ? `${changed.length} ${changed.length === 1 ? 'file differs' : 'files differ'}` : 'all files are the same') : '' }}</span>
        </div>
        <textarea v-if="editing && draft" v-model="draft.files[file]" class="text" spellcheck="false" :aria-label="file" data-test="text" @input="tried = false" />
        <pre v-else-if="!other" class="text" tabindex="0" :aria-label="file">{{ own.files?.[file] }}</pre>
        <LinesBeside v-else class="both" :left="other.files?.[file] ?? ''" :right="own.files?.[file] ?? ''" :label="`${file}, side by side`" />
      </section>
    </template>
  </div>
</template>

<style scoped>
.revisions { display: grid; grid-template-columns: 270px minmax(0, 1fr); height: 100%; background: rgb(var(--v-theme-surface)); }
.message { padding: 10px 16px; margin: 0; color: var(--quiet); grid-column: 1 / -1; }
.quiet { color: var(--quiet); }
.wrong, .breaking { color: rgb(var(--v-theme-error)); }
.link { color: rgb(var(--v-theme-primary)); }
.risky { color: rgb(var(--v-theme-warning)); }
.safe { color: rgb(var(--v-theme-success)); }
.list { border-right: 1px solid var(--line); overflow: auto; }
.entry { display: grid; grid-template-columns: auto auto 1fr; gap: 0 8px; padding: 6px 14px; text-decoration: none; color: var(--ink); font-size: 12.5px; border-bottom: 1px solid color-mix(in srgb, var(--ink) 6%, transparent); }
.entry:hover { background: color-mix(in srgb, var(--ink) 5%, transparent); }
.entry.here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 10%, transparent); }
.live { border: 1px solid currentColor; border-radius: 8px; padding: 0 6px; font-size: 11px; color: rgb(var(--v-theme-success)); align-self: center; line-height: 15px; }
.when { white-space: nowrap; text-align: right; grid-column: 3; }
.note, .entry > .quiet:last-child { grid-column: 1 / -1; overflow-wrap: anywhere; }
.detail { display: flex; flex-direction: column; min-width: 0; min-height: 0; }
header { display: flex; flex-wrap: wrap; gap: 4px 14px; align-items: center; padding: 8px 16px 4px; }
h1 { font-size: 16px; margin: 0; }
.space { flex: 1; }
.line { margin: 0; padding: 2px 16px; display: flex; flex-wrap: wrap; gap: 2px 12px; }
a:not(.entry) { color: rgb(var(--v-theme-primary)); }
.outcome { padding: 6px 16px; border-block: 1px solid var(--line); max-height: 45%; overflow: auto; font-size: 12.5px; }
.outcome p { margin: 2px 0; overflow-wrap: anywhere; }
.form, .which { display: flex; flex-wrap: wrap; gap: 6px 14px; align-items: center; }
.form { padding-top: 4px; }
.which { padding: 6px 16px; border-bottom: 1px solid var(--line); font-size: 12.5px; }
.wide { flex: 1; display: flex; align-items: center; gap: 6px; }
input { border: 1px solid var(--line); border-radius: 4px; height: 26px; padding: 0 8px; color: inherit; background: transparent; }
.wide input { flex: 1; min-width: 120px; }
input:focus-visible, .entry:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -1px; }
.text { font-family: var(--mono); font-size: 12.5px; line-height: 19px; }
.text { flex: 1; min-height: 200px; margin: 0; padding: 8px 16px; overflow: auto; border: 0; outline-offset: -2px; resize: none; color: inherit; background: transparent; white-space: pre; }
.both { flex: 1; min-height: 0; }
code { font-family: var(--mono); }
@media (max-width: 900px) {
  .revisions { grid-template-columns: minmax(0, 1fr); height: auto; }
  .list { border-right: 0; max-height: 220px; border-bottom: 1px solid var(--line); }
  .both { max-height: 70vh; }
}
.barred { grid-template-rows: auto minmax(0, 1fr); }
.barred > :first-child { grid-column: 1 / -1; }
</style>
