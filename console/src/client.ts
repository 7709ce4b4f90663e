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

async function send(path: string, init: RequestInit): Promise<Response> {
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

async function decode<T>(response: Response): Promise<T> {
  return read<T>(await response.text(), response.status)
}

function read<T>(text: string, status: number): T {
  try {
    return JSON.parse(text) as T
  } catch {
    throw new NoAnswer(`The service answered with the status ${status} and something that is not JSON.`)
  }
}

const headers = { 'Content-Type': 'application/json', Accept: 'application/graphql-response+json' }

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

/** How often each coordinate was asked in the last 24 hours; undefined where the service counts nothing, or not for this caller. */
export async function usedLately(): Promise<Map<string, number> | undefined> {
  const response = await send('/api/v1/traffic?uses=true', {})
  if (!response.ok) return undefined
  const { operations } = await decode<{ operations: { asked: number; uses?: string[] }[] }>(response)
  const counts = new Map<string, number>()
  for (const o of operations) for (const at of o.uses ?? []) counts.set(at, (counts.get(at) ?? 0) + o.asked)
  return counts
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

/** A minute in which a source was asked; times are milliseconds. */
export interface Minute {
  at: string
  requests: number
  failed?: number
  mean: number
  most: number
}

export interface StoredField {
  name: string
  type: string
  nullable?: boolean
  unique?: boolean
  indexed?: boolean
  about?: string
  leads?: string
  values?: string[]
}

export interface StoredSet {
  name: string
  what: string
  about?: string
  rows?: number
  readOnly?: string
  key?: string[]
  fields: StoredField[]
  types?: string[]
  told?: boolean
}

/** A source, what it holds, and how it is asked. */
export interface Source {
  name: string
  kind: string
  state?: { running: number; waiting: number; asked: 'yes' | 'no' | 'probing'; since?: string }
  history: Minute[]
  problem?: string
  tells?: string
  sets: StoredSet[]
}

/** Rejects with a NoAnswer that says why not. */
async function administered<T>(path: string, init: RequestInit = {}): Promise<T> {
  const response = await send(path, init)
  if (response.ok) return response.status === 204 ? (undefined as T) : decode<T>(response)
  const told = await decode<{ detail?: string; fix?: string }>(response)
  throw new NoAnswer([told.detail, told.fix].filter(Boolean).join(' → ') || `The service answers ${response.status}.`)
}

export const allSources = async () => (await administered<{ sources: Source[] }>('/api/v1/sources')).sources

/** Records as they are in a store. */
export interface Stored {
  columns: StoredField[]
  rows: unknown[][]
  more: boolean
  asks: string
  here?: boolean
}

export function storedRows(source: string, query: { set: string; where: string[]; sort?: string; limit: number; offset: number }): Promise<Stored> {
  const q = new URLSearchParams({ set: query.set, limit: String(query.limit), offset: String(query.offset) })
  if (query.sort) q.set('sort', query.sort)
  for (const w of query.where) q.append('where', w)
  return administered(`/api/v1/sources/${encodeURIComponent(source)}/rows?${q}`)
}

/** Something that is wrong, or could be better, with what is served. */
export interface Finding {
  severity: 'error' | 'warning'
  rule: string
  message: string
  fix?: string
  file?: string
  line?: number
  column?: number
  coordinate?: string
}

export const projectFindings = () => administered<{ findings: Finding[]; told: string[] }>('/api/v1/findings')

/** An operation as traffic tells it; times are milliseconds. */
export interface Tally {
  id: string
  name: string
  kind: string
  /** Missing of one that is too long to be kept. */
  text?: string
  asked: number
  failed: number
  requests: number
  records: number
  last: string
  codes: Record<string, number>
  clients: Record<string, number>
  p50: number
  p95: number
  p99: number
}

export interface Traffic {
  operations: Tally[]
  hours: { hour: string; asked: number; failed: number }[]
}

export const traffic = (within: string, client: string) => administered<Traffic>(`/api/v1/traffic?${new URLSearchParams({ within, client })}`)
export const unasked = async (within: string) => (await administered<{ unused: string[] }>(`/api/v1/traffic/uses?${new URLSearchParams({ within })}`)).unused

export interface Difference {
  what: string
  class: 'breaking' | 'risky' | 'safe'
  coordinate: string
}

/** A revision that is kept; files are told of one. */
export interface Kept {
  number: number
  at: string
  by: string
  note?: string
  origin: 'files' | 'published' | 'restored'
  differences?: Difference[]
  files?: Record<string, string>
}

/** An operation that a change breaks, and why. */
export interface Broken {
  id: string
  name: string
  asked: number
  clients: string[]
  why: string[]
}

/** What came of a publication, or why there was none. */
export interface Outcome {
  revision?: Kept | null
  differences?: Difference[]
  findings?: Finding[]
  broken?: Broken[]
  detail?: string
  fix?: string
}

export const revisions = () => administered<{ revisions: Kept[]; serving: { number: number } | null; published: number }>('/api/v1/revisions')
export const revisionOf = (number: number) => administered<Kept>(`/api/v1/revisions/${number}`)

async function publication(path: string, body: object): Promise<Outcome> {
  const response = await send(path, { method: 'POST', headers, body: JSON.stringify(body) })
  return decode<Outcome>(response)
}

/** Serves a revision again; with attempt, only what would come of it is told. */
export const restoreRevision = (number: number, by: string, note: string, attempt: boolean, anyway: boolean) => publication(`/api/v1/revisions/${number}/restore`, { by, note, try: attempt, anyway })
export const publishFiles = (files: Record<string, string>, by: string, note: string, onto: number, attempt: boolean, anyway: boolean) =>
  publication('/api/v1/revisions', { files, by, note, onto, try: attempt, anyway })

/** A key of a client program; its secret is told when it is made, and never again. */
export interface ProgramKey {
  id: string
  name: string
  roles: string[]
  by: string
  made: string
  until?: string
  used?: string
  revoked?: string
  revokedBy?: string
}

export const programKeys = async () => (await administered<{ keys: ProgramKey[] }>('/api/v1/keys')).keys
export const addProgramKey = (key: { name: string; roles: string[]; until?: string; by: string }) =>
  administered<ProgramKey & { key: string }>('/api/v1/keys', { method: 'POST', headers, body: JSON.stringify(key) })
export const revokeProgramKey = (id: string, by: string) => administered<undefined>(`/api/v1/keys/${encodeURIComponent(id)}?${new URLSearchParams({ by })}`, { method: 'DELETE' })

/** A role, and what of the schema its holders do not see; that without a name is of somebody without one. */
export interface RoleView {
  name: string
  hides: string[]
}

export const roleViews = async () => (await administered<{ roles: RoleView[] }>('/api/v1/roles')).roles
