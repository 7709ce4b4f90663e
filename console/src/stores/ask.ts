import { defineStore } from 'pinia'
import { computed, ref, shallowRef, watch } from 'vue'
import { ask, explain, followAnswers, NoAnswer, type Answer, type Call, type Explanation, type Fault, type Question } from '../client'

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

/** What kind of operation is called name in a text, or is its first: '' where none is written yet. */
function kindOf(text: string, name?: string): string {
  const bare = text.replace(/"""[\s\S]*?"""|"(\\.|[^"\\\n])*"|#[^\n]*/g, '')
  if (name) return new RegExp(`\\b(query|mutation|subscription)\\s+${name}\\b`).exec(bare)?.[1] ?? ''
  return /^\s*(?:fragment\b[^{]*\{[\s\S]*?\}\s*)*(query|mutation|subscription)\b/.exec(bare)?.[1] ?? ''
}

/** One answer that a stream has told. */
export interface Told {
  number: number
  at: Date
  answer: Answer
}

/** How many of them are kept. */
const mostTold = 500

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
  /** What a stream has told, the newest first; undefined if none was begun. */
  const events = shallowRef<Told[]>()
  const chosen = shallowRef<Told>()
  const paused = ref(false)
  const waiting = shallowRef<Told[]>([])
  const live = ref(false)
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
    events.value = undefined
    choose(undefined)
    paused.value = false
    waiting.value = []
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

  const isSubscription = computed(() => kindOf(operation.value, names.value.length > 1 ? (operationName.value ?? names.value[0]) : names.value[0]) === 'subscription')

  function choose(event: Told | undefined) {
    chosen.value = event
    answer.value = event?.answer
  }

  /** Shows what was told, unless it waits until the list goes on. */
  function hear(event: Told) {
    if (paused.value) {
      waiting.value = [event, ...waiting.value].slice(0, mostTold)
      return
    }
    const newest = chosen.value === events.value?.[0]
    events.value = [event, ...(events.value ?? [])].slice(0, mostTold)
    if (newest) choose(event)
  }

  function pause() {
    paused.value = !paused.value
    if (paused.value) return
    const newest = chosen.value === events.value?.[0]
    events.value = [...waiting.value, ...(events.value ?? [])].slice(0, mostTold)
    waiting.value = []
    if (newest) choose(events.value[0])
  }

  const follow = () =>
    attempt(async (q, signal) => {
      events.value = []
      let number = 0
      await followAnswers(q, !isSubscription.value, (told) => {
        if ('answer' in told) hear({ number: ++number, at: new Date(), answer: told.answer })
        else if (events.value?.length) trouble.value = `It has ended: ${told.ended[0]?.message ?? ''}`
        else {
          events.value = undefined
          answer.value = { errors: told.ended }
        }
      }, signal).catch((error: unknown) => {
        if (!signal.aborted) throw error
      })
    })

  const run = () =>
    isSubscription.value || live.value ? follow() : attempt(async (q, signal) => {
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

  return { question, operation, variables, operationName, names, answer, plan, faults, calls, trouble, variablesTrouble, running, millis, bytes, events, chosen, choose, paused, pause, waiting, live, isSubscription, run, planOnly, stop }
})
