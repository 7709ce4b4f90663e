import type { Json, Schemas } from './calls'

/** One error of an answer, as the service tells it. */
export interface Fault {
  message: string
  locations?: { line: number; column: number }[]
  path?: (string | number)[]
  extensions?: { code?: string; source?: string; fix?: string; rule?: string; coordinate?: string; more?: number }
}

/** One store request that was made. */
export interface Call {
  /** Which of the plan's requests it is. */
  id: number
  wave: number
  source: string
  asks: string
  requests: number
  keys: number
  /** How often a function was called; missing for record sets. */
  calls?: number
  records: number
  /** Of the values of the records. */
  bytes: number
  /** When it began, since the first could, in milliseconds; and how long it took. */
  at: number
  ms: number
  failed?: boolean
}

export interface Answer {
  data?: unknown
  errors?: Fault[]
  extensions?: { calls?: Call[] }
}

export type PlannedRequest = Schemas['PlannedRequest']

/** What an operation would ask, without running it. */
export type Explanation = Schemas['Plan']

export interface Question {
  query: string
  operationName?: string
  variables?: Record<string, unknown>
}

/** An operation by its name: the project keeps it, or somebody saved it. */
export type ProjectOperation = Schemas['Operation']
export type SavedOperation = Pick<Schemas['Operation'], 'name' | 'text'>

/** Why a question got no answer at all. */
export class NoAnswer extends Error {
  /** The status of the response is 0 where there was none. */
  constructor(message: string, readonly status = 0) {
    super(message)
  }
}

const keyName = 'osprey.key'
let refused: (why: Refused) => void = () => {}

/** unknown: the service does not know who asks; elsewhere: it does, and the console is not for them. */
export type Refused = 'unknown' | 'elsewhere'

/** Keeps the key or token that this tab sends with each request; it is forgotten with the tab. */
export function keepKey(key: string): void {
  if (key) sessionStorage.setItem(keyName, key)
  else sessionStorage.removeItem(keyName)
}

/** Whether a key is kept. */
export const hasKey = (): boolean => sessionStorage.getItem(keyName) !== null

/** As a holder of which role this tab looks at the service: null as who asks, '' as somebody without a role. */
export const looksAs = (): string | null => sessionStorage.getItem('osprey.as')

/** Looks as a holder of a role from now on; null as who asks. Everything is read anew. */
export function lookAs(role: string | null): void {
  if (role === null) sessionStorage.removeItem('osprey.as')
  else sessionStorage.setItem('osprey.as', role)
}

/** Says what is done when the service does not answer who asks. */
export function onRefused(done: (why: Refused) => void): void {
  refused = done
}

/** Sends a request as who asks. Rejects with a NoAnswer. */
export async function send(path: string, init: RequestInit): Promise<Response> {
  const all = new Headers(init.headers)
  const key = sessionStorage.getItem(keyName)
  if (key) all.set('Authorization', `Bearer ${key}`)
  const as = looksAs()
  if (as !== null && !all.has('Osprey-As')) all.set('Osprey-As', as || '-')
  try {
    const response = await fetch(path, { ...init, headers: all })
    if (response.status === 401) refused('unknown')
    return response
  } catch (cause) {
    if (cause instanceof DOMException && cause.name === 'AbortError') throw new NoAnswer('Stopped.')
    throw new NoAnswer('The service does not answer. Is it still running?')
  }
}

/** Reads an answer in JSON. Rejects with a NoAnswer. */
export async function decode<T>(response: Response): Promise<T> {
  return read<T>(await response.text(), response.status)
}

/** Reads an answer in JSON, if it is no problem. Rejects with a NoAnswer that says which. */
export async function orNoAnswer<T>(response: Response): Promise<T> {
  if (response.ok) return response.status === 204 ? (undefined as T) : decode<T>(response)
  const told = await decode<Partial<Schemas['Problem']>>(response)
  const first = told.findings?.[0]
  throw new NoAnswer([told.detail, first && `${first.line}:${first.column}: ${first.message}`, told.fix ?? first?.fix].filter(Boolean).join(' → ') || `The service answers ${response.status}.`, response.status)
}

function read<T>(text: string, status: number): T {
  try {
    return JSON.parse(text) as T
  } catch {
    throw new NoAnswer(`The service answered with the status ${status} and something that is not JSON.`)
  }
}

export const headers = { 'Content-Type': 'application/json', Accept: 'application/graphql-response+json' }

/** Headers of a caller's own, which go with an operation. */
export type Extra = Record<string, string>

/** Runs an operation as a holder of a role would, '' as somebody without one; undefined as who asks. The answer is laid out. Rejects with a NoAnswer. */
export async function askAs(question: Question, role?: string): Promise<string> {
  const own: Extra = role === undefined ? {} : { 'Osprey-As': role || '-' }
  const response = await send('/graphql', { method: 'POST', headers: { ...headers, ...own, 'Osprey-Client': 'console' }, body: JSON.stringify(question) })
  return JSON.stringify(await decode<unknown>(response), null, 2)
}

/** Runs an operation; the answer, as its text, tells its store requests. Rejects with a NoAnswer. */
export async function ask(question: Question, extra: Extra, signal: AbortSignal): Promise<{ text: string; status: number; bytes: number }> {
  const response = await send('/graphql', {
    method: 'POST', signal, headers: { ...extra, ...headers, 'Osprey-Calls': 'on', 'Osprey-Client': 'console' }, body: JSON.stringify(question),
  })
  const text = await response.text().catch(() => {
    throw new NoAnswer(signal.aborted ? 'Stopped.' : 'The answer broke off.')
  })
  return { text, status: response.status, bytes: new Blob([text]).size }
}

/** An answer that a stream tells, or why the stream has ended. */
export type Heard = { text: string; answer: Answer } | { ended: Fault[] }

/**
 * Follows a subscription, or, if live, a query that is answered again, and goes on where it was when the connection ends. It
 * resolves when the service has ended it. Rejects with a NoAnswer.
 */
export async function followAnswers(question: Question, live: boolean, extra: Extra, heard: (told: Heard) => void, signal: AbortSignal): Promise<void> {
  let last = ''
  for (let wait = 1000; ; wait = Math.min(2 * wait, 30_000)) {
    const own: Record<string, string> = { ...extra, ...headers, Accept: 'text/event-stream', 'Osprey-Calls': 'on', 'Osprey-Client': 'console' }
    if (live) own['Osprey-Live'] = 'on'
    if (last) own['Last-Event-ID'] = last
    const response = await send('/graphql', { method: 'POST', signal, headers: own, body: JSON.stringify(question) })
    if (!response.headers.get('Content-Type')?.startsWith('text/event-stream')) {
      heard({ ended: (await decode<Answer>(response)).errors ?? [] })
      return
    }
    let over = false
    await readEvents(response, ({ name, id, data }) => {
      if (id) last = id
      if (!data) return
      wait = 1000
      if (name !== 'complete') {
        heard({ text: data, answer: JSON.parse(data) as Answer })
        return
      }
      const ended = (JSON.parse(data) as Answer).errors ?? []
      over = ended[0]?.extensions?.code !== 'REPLACED' // then it begins again, on what is served now
      if (over) heard({ ended })
    }).catch(() => undefined)
    if (over || signal.aborted) return
    await new Promise((done) => window.setTimeout(done, wait))
  }
}

/** Reads events (the HTML standard, section 9.2) until they end. A browser's own reader of them sends no key. */
async function readEvents(response: Response, heard: (event: { name: string; id: string; data: string }) => void): Promise<void> {
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader()
  let text = ''
  let event = { name: '', id: '', data: '' }
  for (let piece = await reader?.read(); reader && piece && !piece.done; piece = await reader.read()) {
    text += piece.value
    for (let end = text.indexOf('\n'); end >= 0; end = text.indexOf('\n')) {
      const line = text.slice(0, end)
      text = text.slice(end + 1)
      if (line === '') {
        heard(event)
        event = { name: '', id: '', data: '' }
      } else if (line.startsWith('event: ')) event.name = line.slice(7)
      else if (line.startsWith('id: ')) event.id = line.slice(4)
      else if (line.startsWith('data: ')) event.data = line.slice(6)
    }
  }
}

/** Plans an operation without running it. Rejects with a NoAnswer. */
export async function explain(question: Question, extra: Extra, signal: AbortSignal): Promise<Explanation | Answer> {
  const response = await send('/api/v1/plans', { method: 'POST', signal, headers: { ...extra, ...headers }, body: JSON.stringify(question) })
  return decode<Explanation | Answer>(response)
}

/** An operation as a call of a program in a language. Rejects with a NoAnswer. */
export async function callIn(language: string, question: Question): Promise<string> {
  const response = await send(`/api/v1/snippets?in=${language}`, { method: 'POST', headers, body: JSON.stringify(question) })
  return (await orNoAnswer<Json<'/api/v1/snippets', 'post'>>(response)).text
}

/** The operations that the project keeps, and one to begin with that is made of the schema. */
export async function savedOperations(): Promise<Json<'/api/v1/operations'>> {
  return decode(await send('/api/v1/operations', {}))
}

/** Saves an operation in the project, in place of one; without it, as a new one. Rejects with a NoAnswer that says why it is not saved. */
export async function keepInProject(name: string, text: string, before?: ProjectOperation): Promise<void> {
  const response = await send(`/api/v1/operations/${encodeURIComponent(name)}`, { method: 'PUT', headers, body: JSON.stringify({ text, sha256: before?.sha256 }) })
  await orNoAnswer<ProjectOperation>(response)
}

/** Removes the file of an operation of the project, if it is as it was. Rejects with a NoAnswer that says why it is not. */
export async function dropFromProject(op: ProjectOperation): Promise<void> {
  const response = await send(`/api/v1/operations/${encodeURIComponent(op.name)}?sha256=${op.sha256}`, { method: 'DELETE' })
  await orNoAnswer<void>(response)
}

/** An operation, formatted. Rejects with a NoAnswer that says why it cannot be. */
export async function tidied(query: string): Promise<string> {
  const response = await send('/api/v1/tidy', { method: 'POST', headers, body: JSON.stringify({ query, at: 0 }) })
  return (await orNoAnswer<Json<'/api/v1/tidy', 'post'>>(response)).text
}

export type TypeField = Schemas['Field']
export type SchemaType = Schemas['Type']

/** What the schema has, and which of the project's operations use it, by coordinates. */
export type SchemaTypes = Schemas['Types']

export async function schemaTypes(): Promise<SchemaTypes> {
  return decode(await send('/api/v1/types', {}))
}

/** Which sources' stores answer now. */
export async function readiness(): Promise<{ ready: boolean; sources: Record<string, { ready: boolean; problem?: string }> }> {
  return decode(await send('/ready', {}))
}

/** What is wrong with the project's files, so that what was served before is served still. */
export type FilesTrouble = Schemas['Trouble']

/** What is served, and what is wrong. */
export type Now = Schemas['Now']

/** Hears what is served and what is wrong, at once and whenever it changes, until it is told to stop. */
export function follow(heard: (now: Now) => void): () => void {
  const stopper = new AbortController()
  void (async () => {
    while (!stopper.signal.aborted) {
      await listen(heard, stopper.signal).catch(() => undefined)
      await new Promise((done) => window.setTimeout(done, 2000)) // the connection has ended, and is made again
    }
  })()
  return () => stopper.abort()
}

/** Hears events until they end. */
async function listen(heard: (now: Now) => void, signal: AbortSignal): Promise<void> {
  const response = await send('/api/v1/events', { signal })
  if (response.status === 403) refused('elsewhere')
  if (!response.ok) return
  await readEvents(response, ({ name, data }) => {
    if (name === 'now') heard(JSON.parse(data) as Now)
  })
}

/** An operation that people saved in the service's records. */
export type KeptOperation = Schemas['Saved']

/** The operations that people saved; undefined where the service keeps none, or not for this caller. */
export async function keptOperations(): Promise<KeptOperation[] | undefined> {
  const response = await send('/api/v1/saved', {})
  if (!response.ok) return undefined
  return (await decode<Json<'/api/v1/saved'>>(response)).saved
}

/** Saves an operation in place of a version of it, 0 for a new one. Rejects with a NoAnswer that says why it is not saved. */
export async function keepOperation(name: string, text: string, version: number): Promise<KeptOperation> {
  const response = await send(`/api/v1/saved/${encodeURIComponent(name)}`, { method: 'PUT', headers, body: JSON.stringify({ text, by: 'console', version }) })
  return orNoAnswer<KeptOperation>(response)
}

/** Removes a saved operation. */
export async function dropOperation(name: string): Promise<void> {
  await send(`/api/v1/saved/${encodeURIComponent(name)}`, { method: 'DELETE' })
}

/** A page of the documentation, with its parts. */
export type HelpPage = Schemas['Page']

/** The pages of the documentation, as of the service's version. */
export async function helpPages(): Promise<HelpPage[]> {
  return (await decode<Json<'/api/v1/pages'>>(await send('/api/v1/pages', {}))).pages
}

/** One page, as HTML. */
export async function helpPage(name: string): Promise<string> {
  const response = await send(`/api/v1/pages/${encodeURIComponent(name)}`, {})
  if (!response.ok) throw new NoAnswer(`There is no page ${name}.`)
  return response.text()
}

/** One thing found wrong with an operation while it is written. */
export type Problem = Schemas['DraftProblem']
/** One thing found wrong with its variables. */
export type VariableProblem = Schemas['VariableProblem']

const draft = async <T>(path: string, body: object) => decode<T>(await send(`/api/v1/${path}`, { method: 'POST', headers, body: JSON.stringify(body) }))

export const problems = async (query: string) => (await draft<Json<'/api/v1/problems', 'post'>>('problems', { query })).problems
export const completions = (query: string, at: number) => draft<Schemas['Completions']>('completions', { query, at })
export const meaning = (query: string, at: number) => draft<Schemas['Meaning'] | null>('meaning', { query, at })

/** Of variables: the operation that they are for, and the text of their JSON. */
export interface Given {
  query: string
  operationName?: string
  variables: string
}

export const variableProblems = async (given: Given) => (await draft<Json<'/api/v1/variables/problems', 'post'>>('variables/problems', given)).problems
export const variableCompletions = (given: Given, at: number) => draft<Schemas['Completions']>('variables/completions', { ...given, at })
