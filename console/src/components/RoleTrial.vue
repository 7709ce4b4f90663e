<script setup lang="ts">
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { askAs, NoAnswer, savedOperations } from '../client'
import { needsNothing, needsOf } from '../editor/selection'
import LinesBeside from './LinesBeside.vue'

/** One operation, as you are answered and as a holder of a role is. */
const props = defineProps<{ role: string }>()
const operations = shallowRef<{ name: string; text: string }[]>([])
const name = ref('')
const own = ref('')
const theirs = ref('')
const problem = ref('')
const running = ref(false)
const variables = ref('')

const current = computed(() => operations.value.find((o) => o.name === name.value))
const needs = computed(() => (current.value && needsOf(current.value.text)) ?? [])

/** The variables that must be given, as JSON to be filled in. */
const begun = () => (needs.value.length ? JSON.stringify(Object.fromEntries(needs.value.map((v) => [v.name, /^\[/.test(v.type) ? [] : /^(Int|Float)!/.test(v.type) ? 0 : '']))) : '')

async function look() {
  const op = current.value
  if (!op) return
  let given: Record<string, unknown> | undefined
  try {
    given = variables.value.trim() ? (JSON.parse(variables.value) as Record<string, unknown>) : undefined
  } catch {
    problem.value = 'The variables are no JSON, such as {"imo": "9100012"}.'
    return
  }
  running.value = true
  problem.value = ''
  try {
    const question = { query: op.text, variables: given }
    ;[own.value, theirs.value] = await Promise.all([askAs(question), askAs(question, props.role)])
  } catch (error) {
    problem.value = error instanceof NoAnswer ? error.message : String(error)
  } finally {
    running.value = false
  }
}

/** Another operation: it is asked at once, unless values must be given first. */
function begin() {
  variables.value = begun()
  own.value = theirs.value = problem.value = ''
  if (!needs.value.length) void look()
}

onMounted(async () => {
  const got = await savedOperations().catch(() => undefined)
  operations.value = [...(got?.operations.filter((o) => needsOf(o.text)) ?? []), ...(got?.first ? [{ name: 'first', text: got.first }] : [])]
  name.value = (operations.value.find((o) => needsNothing(o.text)) ?? operations.value[0])?.name ?? ''
})
watch(current, begin)
watch(() => props.role, () => (own.value || !needs.value.length) && void look())
</script>

<template>
  <div class="trial" data-test="trial">
    <p class="line">
      <label>Operation <select v-model="name" aria-label="Operation" data-test="trial-operation"><option v-for="o in operations" :key="o.name" :value="o.name">{{ o.name }}</option></select></label>
      <label v-if="needs.length" class="given">Variables <input v-model="variables" spellcheck="false" autocomplete="off" data-test="trial-variables" @keydown.enter="look" /></label>
      <button v-if="needs.length" class="ask" data-test="trial-ask" :disabled="running" @click="look">Ask</button>
      <span class="quiet">{{ running ? 'Asking …' : own && own === theirs ? 'Both are answered the same.' : own ? 'Left as you are answered, right as they are.' : needs.length ? 'It needs values.' : '' }}</span>
    </p>
    <p v-if="problem" class="wrong" role="alert">{{ problem }}</p>
    <LinesBeside v-else-if="own" class="both" :left="own" :right="theirs" label="The answers, side by side" />
  </div>
</template>

<style scoped>
.trial { padding: 4px 16px 12px; }
.line { display: flex; flex-wrap: wrap; gap: 4px 16px; align-items: center; margin: 4px 0 8px; font-size: 12.5px; }
.given { display: flex; flex: 1 1 240px; max-width: 480px; gap: 6px; align-items: center; }
.given input { flex: 1; min-width: 0; padding: 2px 6px; border: 1px solid var(--line); border-radius: 4px; background: transparent; color: inherit; font: 12px var(--mono); }
.ask { padding: 2px 10px; border: 1px solid var(--line); border-radius: 4px; background: transparent; color: rgb(var(--v-theme-primary)); font-size: 12.5px; }
.quiet { color: var(--quiet); }
.wrong { color: rgb(var(--v-theme-error)); }
.both { border: 1px solid var(--line); border-radius: 4px; max-height: 46vh; }
</style>
