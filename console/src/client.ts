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

/** One record set of a planned request, and the places of the answer that it is for. */
export interface PlannedRead {
  asks: string
  fields: string[]
  keys?: number
  records?: number
  here?: string[]
}

export interface PlannedRequest {
  id: number
  /** The requests whose records bring its keys. */
  after?: number[]
  source: string
  kind: string
  asks: string
  statement?: string
  statements?: number
  eachKey?: boolean
  pages?: number
  transaction?: string
  problem?: string
  reads: PlannedRead[]
}

/** What an operation would ask, without running it. */
export interface Explanation {
  operation?: string
  requests: number
  several: boolean
  /** How many store requests are allowed; missing if there is no bound. */
  limit?: number
  cost: number
  costLimit?: number
  /** Of a subscription: what is told, and how it comes to be known. */
  told?: string
  statementsHidden?: boolean
  waves: { wave: number; requests: PlannedRequest[] }[]
}

export interface Question {
  query: string
  operationName?: string
  variables?: Record<string, unknown>
}

export interface SavedOperation {
  name: string
  text: string
}

/** Why a question got no answer at all. */
export class NoAnswer extends Error {}

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
  if (as !== null) all.set('Osprey-As', as || '-')
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
  const got = await decode<{ text?: string; detail?: string }>(response)
  if (got.text === undefined) throw new NoAnswer(got.detail ?? 'The service does not write it.')
  return got.text
}

/** The operations that the project keeps, and one to begin with that is made of the schema. */
export async function savedOperations(): Promise<{ operations: SavedOperation[]; first: string }> {
  return decode(await send('/api/v1/operations', {}))
}

/** An operation, formatted. Rejects with a NoAnswer that says why it cannot be. */
export async function tidied(query: string): Promise<string> {
  const response = await send('/api/v1/tidy', { method: 'POST', headers, body: JSON.stringify({ query, at: 0 }) })
  const got = await decode<{ text?: string; detail?: string }>(response)
  if (got.text === undefined) throw new NoAnswer(got.detail ?? 'The service does not format it.')
  return got.text
}

/** A field of a type, an argument, or a field of an input object. */
export interface TypeField {
  name: string
  type: string
  of: string
  many?: boolean
  text?: string
  default?: string
  deprecated?: string
  args?: TypeField[]
  source?: string
  where?: string
}

/** A type of the schema. */
export interface SchemaType {
  name: string
  kind: 'SCALAR' | 'OBJECT' | 'INTERFACE' | 'UNION' | 'ENUM' | 'INPUT_OBJECT'
  text?: string
  root?: 'query' | 'mutation' | 'subscription'
  source?: string
  set?: string
  implements?: string[]
  members?: string[]
  fields?: TypeField[]
  values?: { name: string; text?: string; deprecated?: string }[]
}

/** What the schema has, and which of the project's operations use it, by coordinates. */
export interface SchemaTypes {
  types: SchemaType[]
  uses: Record<string, string[]>
}

export async function schemaTypes(): Promise<SchemaTypes> {
  return decode(await send('/api/v1/types', {}))
}

/** Which sources' stores answer now. */
export async function readiness(): Promise<{ ready: boolean; sources: Record<string, { ready: boolean; problem?: string }> }> {
  return decode(await send('/ready', {}))
}

/** What is wrong with the project's files, so that what was served before is served still. */
export interface FilesTrouble {
  problem: string
  fix?: string
  /** file:line:column */
  place?: string
  /** how many further errors there are */
  more?: number
}

/** What is served, and what is wrong. */
export interface Now {
  /** One more with each revision that the service serves. */
  serial: number
  /** Which of the revisions that are kept it is; null if it is none, or is not told here. */
  revision: { number: number; at: string; by: string; note?: string; origin: 'files' | 'published' | 'restored' } | null
  files?: FilesTrouble
  records?: { problem?: string; revision?: string }
}

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
export interface KeptOperation extends SavedOperation {
  by: string
  at: string
  version: number
}

/** The operations that people saved; undefined where the service keeps none, or not for this caller. */
export async function keptOperations(): Promise<KeptOperation[] | undefined> {
  const response = await send('/api/v1/saved', {})
  if (!response.ok) return undefined
  return (await decode<{ saved: KeptOperation[] }>(response)).saved
}

/** Saves an operation in place of a version of it, 0 for a new one. Rejects with a NoAnswer that says why it is not saved. */
export async function keepOperation(name: string, text: string, version: number): Promise<KeptOperation> {
  const response = await send(`/api/v1/saved/${encodeURIComponent(name)}`, { method: 'PUT', headers, body: JSON.stringify({ text, by: 'console', version }) })
  if (!response.ok) throw new NoAnswer((await decode<{ detail: string }>(response)).detail)
  return decode<KeptOperation>(response)
}

/** Removes a saved operation. */
export async function dropOperation(name: string): Promise<void> {
  await send(`/api/v1/saved/${encodeURIComponent(name)}`, { method: 'DELETE' })
}

/** A page of the documentation, with its parts. */
export interface HelpPage {
  name: string
  title: string
  sections: { title: string; anchor: string; text: string }[]
}

/** The pages of the documentation, as of the service's version. */
export async function helpPages(): Promise<HelpPage[]> {
  return (await decode<{ pages: HelpPage[] }>(await send('/api/v1/pages', {}))).pages
}

/** One page, as HTML. */
export async function helpPage(name: string): Promise<string> {
  const response = await send(`/api/v1/pages/${encodeURIComponent(name)}`, {})
  if (!response.ok) throw new NoAnswer(`There is no page ${name}.`)
  return response.text()
}

/** One thing found wrong with an operation while it is written. */
export interface Problem {
  message: string
  fix?: string
  line: number
  column: number
  /** Changes that do what fix says, each by itself; places count code points. */
  mends?: { from: number; to: number; with: string }[]
}

/** A word that can be written at a place. */
export interface Completion {
  label: string
  kind: 'field' | 'argument' | 'type' | 'value' | 'variable' | 'fragment' | 'directive' | 'keyword'
  detail?: string
  text?: string
}

/** What a word means; places count code points. */
export interface Meaning {
  from: number
  to: number
  title: string
  text: string
  coordinate: string
  defined: number
  /** Where its values come from; empty if nothing is known. */
  where: string
}

async function assist<T>(what: string, query: string, at: number): Promise<T> {
  return decode<T>(await send(`/api/v1/${what}`, { method: 'POST', headers, body: JSON.stringify({ query, at }) }))
}

export const problems = async (query: string) => (await assist<{ problems: Problem[] }>('problems', query, 0)).problems
export const completions = (query: string, at: number) => assist<{ from: number; completions: Completion[] }>('completions', query, at)
export const meaning = (query: string, at: number) => assist<Meaning | null>('meaning', query, at)
