import { defineStore } from 'pinia'
import { computed, ref, watch } from 'vue'
import { ask, explain, NoAnswer, type Answer, type Call, type Explanation, type Fault, type Question } from '../client'

const firstOperation = `# Write an operation and run it with Ctrl-Enter.
{
  __schema {
    queryType { fields { name description } }
  }
}
`

/** Names of the operations in a text, for choosing one of several. */
function operationNames(text: string): string[] {
  const bare = text.replace(/"""[\s\S]*?"""|"(\\.|[^"\\\n])*"|#[^\n]*/g, '')
  return [...bare.matchAll(/\b(?:query|mutation|subscription)\s+([_A-Za-z]\w*)/g)].map((m) => m[1] ?? '')
}

/** The question under work and its last answer. */
export const useAsk = defineStore('ask', () => {
  const operation = ref(localStorage.getItem('osprey.operation') ?? firstOperation)
  const variables = ref(localStorage.getItem('osprey.variables') ?? '{}')
  const operationName = ref<string>()
  const answer = ref<Answer>()
  const plan = ref<Explanation>()
  const trouble = ref('')
  const running = ref(false)
  const millis = ref(0)
  const bytes = ref(0)
  let stopper: AbortController | undefined

  watch(operation, (text) => localStorage.setItem('osprey.operation', text))
  watch(variables, (text) => localStorage.setItem('osprey.variables', text))

  const names = computed(() => operationNames(operation.value))
  const faults = computed<Fault[]>(() => answer.value?.errors ?? [])
  const calls = computed<Call[]>(() => answer.value?.extensions?.calls ?? [])

  const variablesTrouble = computed(() => {
    if (variables.value.trim() === '') return ''
    try {
      const value: unknown = JSON.parse(variables.value)
      return value !== null && typeof value === 'object' && !Array.isArray(value) ? '' : 'The variables are not a JSON object.'
    } catch (error) {
      return `The variables are not JSON: ${error instanceof Error ? error.message : String(error)}`
    }
  })

  function question(): Question {
    const q: Question = { query: operation.value }
    if (names.value.length > 1) q.operationName = operationName.value ?? names.value[0]
    if (variables.value.trim() !== '') q.variables = JSON.parse(variables.value) as Record<string, unknown>
    return q
  }

  /** Runs work with the question, unless the variables cannot be read. */
  async function attempt(work: (q: Question, signal: AbortSignal) => Promise<void>) {
    stopper?.abort()
    const own = (stopper = new AbortController())
    answer.value = undefined
    plan.value = undefined
    trouble.value = variablesTrouble.value
    if (trouble.value) return
    running.value = true
    const start = performance.now()
    try {
      await work(question(), own.signal)
    } catch (error) {
      if (stopper === own) trouble.value = error instanceof NoAnswer ? error.message : `The console failed: ${String(error)}`
    } finally {
      if (stopper === own) {
        millis.value = performance.now() - start
        running.value = false
      }
    }
  }

  const run = () =>
    attempt(async (q, signal) => {
      const got = await ask(q, signal)
      answer.value = got.answer
      bytes.value = got.bytes
    })

  const planOnly = () =>
    attempt(async (q, signal) => {
      const got = await explain(q, signal)
      if ('waves' in got) plan.value = got
      else answer.value = got
    })

  function stop() {
    stopper?.abort()
  }

  return { question, operation, variables, operationName, names, answer, plan, faults, calls, trouble, variablesTrouble, running, millis, bytes, run, planOnly, stop }
})
