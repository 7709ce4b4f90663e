import { defineStore } from 'pinia'
import { computed, reactive, ref, shallowReactive, shallowRef, watch } from 'vue'
import { closeReader, readerOf, type Remote } from '../answer'
import type { Head } from '../answer/reader'
import { ask, explain, followAnswers, hasKey, NoAnswer, savedOperations, type Answer, type Call, type Explanation, type Extra, type Fault, type Given, type Question } from '../client'
import { definitions, needsNothing, operationOf } from '../editor/selection'
import { checked } from './given'

/** One answer that a stream has told. */
export interface Told {
  number: number
  at: Date
  text: string
  answer: Answer
}

/** A question that was asked before, with what was answered. */
export interface Past {
  at: number
  operation: string
  variables: string
  name: string
  ok: boolean
  millis: number
  bytes: number
  requests: number
  /** The answer; missing of a large one. */
  text?: string
}

/** How many told answers are kept, how many questions, and how long an answer that is kept with its question: none that was told for a key. */
const mostTold = 500
const mostPast = 40
const longestKept = 20_000

/** What came of asking. */
export interface Run {
  running: boolean
  trouble: string
  head?: Head
  plan?: Explanation
  millis: number
  bytes: number
  /** One more with each answer that is shown: what is drawn of it is drawn anew. */
  shown: number
  events?: Told[]
  chosen?: Told
  paused: boolean
  waiting: Told[]
}

/** An operation under work, with what came of it. */
export interface Sheet {
  id: string
  operation: string
  variables: string
  headers: string
  operationName?: string
  live: boolean
}

const kept = 'osprey.sheets'

interface Kept {
  sheets: Sheet[]
  active: string
}

function firstSheets(): Kept {
  try {
    const text = localStorage.getItem(kept)
    if (text) {
      const found = JSON.parse(text) as Kept
      if (Array.isArray(found.sheets) && found.sheets.length) return found
    }
  } catch {
    // what is kept cannot be read, and is begun anew
  }
  return { sheets: [], active: '' }
}

let counted = 0
const newID = () => `${Date.now().toString(36)}-${++counted}`
const empty = (): Run => ({ running: false, trouble: '', millis: 0, bytes: 0, shown: 0, paused: false, waiting: [] })

/** The operations under work and what came of each. */
export const useAsk = defineStore('ask', () => {
  const first = firstSheets()
  const sheets = reactive<Sheet[]>(first.sheets)
  const active = ref(first.active)
  const runs = shallowReactive(new Map<string, Run>())
  const stoppers = new Map<string, AbortController>()
  const past = shallowRef<Past[]>(readPast())
  const lit = ref('') // the place of the answer that is pointed at
  const pinned = ref<number>() // the request that is chosen

  const nothing = ref(false) // no operation is there to begin with

  if (!sheets.length) {
    add('')
    void savedOperations()
      .then((saved) => {
        const own = saved.operations.find((o) => needsNothing(o.text))
        const text = own?.text ?? saved.first
        if (sheets.length === 1 && sheets[0] && sheets[0].operation === '') sheets[0].operation = text
        nothing.value = text === ''
      })
      .catch(() => undefined)
  }

  const sheet = computed(() => sheets.find((s) => s.id === active.value) ?? sheets[0]!)
  const run = computed<Run>(() => runOf(sheet.value.id))
  const reader = computed<Remote>(() => readerOf(sheet.value.id))

  watch([sheets, active], () => {
    // Headers may be secrets: they are kept until the tab is closed.
    sessionStorage.setItem('osprey.headers', JSON.stringify(Object.fromEntries(sheets.map((s) => [s.id, s.headers]))))
    localStorage.setItem(kept, JSON.stringify({ sheets: sheets.map((s) => ({ ...s, headers: '' })), active: active.value }))
  }, { deep: true })
  try {
    const headers = JSON.parse(sessionStorage.getItem('osprey.headers') ?? '{}') as Record<string, string>
    for (const s of sheets) s.headers = headers[s.id] ?? ''
  } catch {
    // they are written again
  }

  function runOf(id: string): Run {
    let own = runs.get(id)
    if (!own) runs.set(id, (own = shallowReactive(empty())))
    return own
  }

  function add(operation: string, variables = '{}'): Sheet {
    const own: Sheet = { id: newID(), operation, variables, headers: '', live: false }
    sheets.push(own)
    active.value = own.id
    return own
  }

  function close(id: string) {
    const i = sheets.findIndex((s) => s.id === id)
    if (i < 0) return
    stoppers.get(id)?.abort()
    sheets.splice(i, 1)
    runs.delete(id)
    closeReader(id)
    if (!sheets.length) add('')
    if (active.value === id) active.value = sheets[Math.min(i, sheets.length - 1)]!.id
  }

  /** Opens an operation: in the sheet at hand if nothing is written there, else in another. */
  function open(operation: string, variables = '{}') {
    const there = sheets.find((s) => s.operation.trim() === operation.trim() && s.variables === variables)
    if (there) active.value = there.id
    else if (sheet.value.operation.trim() === '') Object.assign(sheet.value, { operation, variables })
    else add(operation, variables)
  }

  const known = computed(() => definitions(sheet.value.operation))
  const names = computed(() => known.value.filter((d) => d.kind !== 'fragment' && d.name).map((d) => d.name))
  const chosenName = computed(() => (names.value.length > 1 ? (names.value.includes(sheet.value.operationName ?? '') ? sheet.value.operationName : names.value[0]) : undefined))
  const asked = computed(() => operationOf(known.value, chosenName.value))
  const isSubscription = computed(() => asked.value?.kind === 'subscription')
  const faults = computed<Fault[]>(() => run.value.head?.faults ?? [])
  const calls = computed<Call[]>(() => run.value.head?.calls ?? [])
  const nameOf = (s: Sheet) => operationOf(definitions(s.operation), s.operationName)?.name || 'Untitled'

  const variablesTrouble = computed(() => troubleOf(sheet.value.variables, 'variables'))
  const given = (): Given => ({ query: sheet.value.operation, operationName: chosenName.value, variables: sheet.value.variables })
  const variableProblems = checked(given)
  const headersTrouble = computed(() => {
    for (const line of sheet.value.headers.split('\n')) {
      if (line.trim() && !/^[!#$%&'*+.^_`|~\w-]+\s*:/.test(line.trim())) return `"${line.trim().slice(0, 40)}" is no header: write Name: value`
    }
    return ''
  })

  function question(): Question {
    const q: Question = { query: sheet.value.operation }
    if (chosenName.value) q.operationName = chosenName.value
    if (sheet.value.variables.trim() !== '') q.variables = JSON.parse(sheet.value.variables) as Record<string, unknown>
    return q
  }

  function extra(): Extra {
    const list: Extra = {}
    for (const line of sheet.value.headers.split('\n')) {
      const colon = line.indexOf(':')
      if (colon > 0) list[line.slice(0, colon).trim()] = line.slice(colon + 1).trim()
    }
    return list
  }

  /** Does something with the question, unless the variables or headers cannot be read. */
  async function attempt(work: (own: Run, q: Question, signal: AbortSignal) => Promise<void>) {
    const { id } = sheet.value
    const own = runOf(id)
    stoppers.get(id)?.abort()
    const stopper = new AbortController()
    stoppers.set(id, stopper)
    pinned.value = undefined
    lit.value = ''
    Object.assign(own, { ...empty(), shown: own.shown + 1, trouble: variablesTrouble.value || headersTrouble.value })
    if (own.trouble) return
    own.running = true
    const start = performance.now()
    try {
      await work(own, question(), stopper.signal)
    } catch (error) {
      if (stoppers.get(id) === stopper) own.trouble = error instanceof NoAnswer ? error.message : `The console failed: ${String(error)}`
    } finally {
      if (stoppers.get(id) === stopper) {
        own.millis = performance.now() - start
        own.running = false
      }
    }
  }

  /** Shows an answer. */
  async function show(id: string, own: Run, text: string, status: number, compare: boolean) {
    try {
      own.head = await readerOf(id).load(text, compare)
    } catch {
      throw new NoAnswer(`The service answered with the status ${status} and something that is not JSON.`)
    }
    own.shown++
  }

  /** Runs the operation: a query or mutation once, a subscription or live query until it is stopped. */
  const begin = () => (isSubscription.value || sheet.value.live ? followIt() : askIt())

  async function askIt() {
    const { id, operation, variables } = sheet.value
    const compare = past.value[0]?.operation === operation
    const name = asked.value?.name || 'Untitled'
    await attempt(async (own, q, signal) => {
      const planned = explain(q, extra(), signal).catch(() => undefined)
      const start = performance.now()
      const got = await ask(q, extra(), signal)
      own.bytes = got.bytes
      const millis = performance.now() - start
      await show(id, own, got.text, got.status, compare)
      const plan = await planned
      if (plan && 'waves' in plan) own.plan = plan
      const head = own.head as Head | undefined
      keepPast({
        at: Date.now(), operation, variables, name, ok: !head?.faults.length, millis, bytes: got.bytes,
        requests: head?.calls.reduce((n, c) => n + c.requests, 0) ?? 0, text: got.text.length <= longestKept && !hasKey() ? got.text : undefined,
      })
    })
  }

  async function followIt() {
    const { id, live } = sheet.value
    await attempt(async (own, q, signal) => {
      own.events = []
      let number = 0
      void explain(q, extra(), signal).then((plan) => ('waves' in plan ? (own.plan = plan) : undefined)).catch(() => undefined)
      await followAnswers(q, live, extra(), (told) => {
        if ('ended' in told) {
          own.head = { faults: told.ended, calls: [], hasData: false, rows: 0, lists: [] }
          return
        }
        const event: Told = { number: ++number, at: new Date(), text: told.text, answer: told.answer }
        if (own.paused) {
          own.waiting = [event, ...own.waiting].slice(0, mostTold)
          return
        }
        own.events = [event, ...(own.events ?? [])].slice(0, mostTold)
        if (own.chosen === undefined || own.chosen === own.events[1]) void choose(event, id)
      }, signal)
    })
  }

  /** Shows one of the told answers. */
  async function choose(event: Told, id = sheet.value.id) {
    const own = runOf(id)
    own.chosen = event
    await show(id, own, event.text, 200, false)
  }

  /** Stops showing what is told, and shows what has come meanwhile when it goes on. */
  function pause() {
    const own = run.value
    own.paused = !own.paused
    if (own.paused) return
    own.events = [...own.waiting, ...(own.events ?? [])].slice(0, mostTold)
    own.waiting = []
    if (own.events[0]) void choose(own.events[0])
  }

  const planOnly = () =>
    attempt(async (own, q, signal) => {
      const got = await explain(q, extra(), signal)
      if ('waves' in got) own.plan = got
      else own.head = { faults: got.errors ?? [], calls: [], hasData: false, rows: 0, lists: [] }
    })

  function stop() {
    stoppers.get(sheet.value.id)?.abort()
  }

  function keepPast(entry: Past) {
    const same = (p: Past) => p.operation === entry.operation && p.variables === entry.variables
    past.value = [entry, ...past.value.filter((p) => !same(p))].slice(0, mostPast)
    writePast(past.value)
  }

  /** Takes a question up again, with what was answered then. */
  async function recall(entry: Past) {
    open(entry.operation, entry.variables)
    const { id } = sheet.value
    const own = runOf(id)
    Object.assign(own, { ...empty(), shown: own.shown + 1 })
    if (!entry.text) return
    own.millis = entry.millis
    own.bytes = entry.bytes
    await show(id, own, entry.text, 200, false)
    const plan = await explain(question(), extra(), new AbortController().signal).catch(() => undefined)
    if (plan && 'waves' in plan && own.plan === undefined) own.plan = plan
  }

  return {
    sheets, active, sheet, run, reader, past, lit, pinned, add, close, open, nameOf, names, chosenName, asked, known, isSubscription, faults, calls, variablesTrouble, variableProblems, given, nothing,
    headersTrouble, question, begin, planOnly, stop, choose, pause, recall,
  }
})

function troubleOf(text: string, what: string): string {
  if (text.trim() === '') return ''
  try {
    const value: unknown = JSON.parse(text)
    return value !== null && typeof value === 'object' && !Array.isArray(value) ? '' : `The ${what} are not a JSON object.`
  } catch (error) {
    return `The ${what} are not JSON: ${error instanceof Error ? error.message : String(error)}`
  }
}

function readPast(): Past[] {
  try {
    return JSON.parse(localStorage.getItem('osprey.past') ?? '[]') as Past[]
  } catch {
    return []
  }
}

/** Keeps what was asked; without the answers where there is no room for them. */
function writePast(list: Past[]) {
  try {
    localStorage.setItem('osprey.past', JSON.stringify(list))
  } catch {
    try {
      localStorage.setItem('osprey.past', JSON.stringify(list.map((p) => ({ ...p, text: undefined }))))
    } catch {
      // there is no room at all: nothing is kept
    }
  }
}
