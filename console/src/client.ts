/** One error of an answer, as the service tells it. */
export interface Fault {
  message: string
  locations?: { line: number; column: number }[]
  path?: (string | number)[]
  extensions?: { code?: string; source?: string; fix?: string; rule?: string; coordinate?: string; more?: number }
}

/** One store request that was made. */
export interface Call {
  wave: number
  source: string
  asks: string
  requests: number
  keys: number
  /** How often a function was called; missing for record sets. */
  calls?: number
  records: number
  ms: number
  failed?: boolean
}

export interface Answer {
  data?: unknown
  errors?: Fault[]
  extensions?: { calls?: Call[] }
}

/** What an operation would ask, without running it. */
export interface Explanation {
  operation?: string
  requests: number
  several: boolean
  /** How many store requests are allowed; missing if there is no bound. */
  limit?: number
  waves: {
    wave: number
    requests: { source: string; kind: string; asks: string; statement?: string; statements?: number; eachKey?: boolean; pages?: number; problem?: string }[]
  }[]
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

async function send(path: string, init: RequestInit): Promise<Response> {
  try {
    return await fetch(path, init)
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

/** Runs an operation; the answer tells its store requests. Rejects with a NoAnswer. */
export async function ask(question: Question, signal: AbortSignal): Promise<{ answer: Answer; bytes: number }> {
  const response = await send('/graphql', {
    method: 'POST', signal, headers: { ...headers, 'Osprey-Calls': 'on', 'Osprey-Client': 'console' }, body: JSON.stringify(question),
  })
  const text = await response.text()
  return { answer: read<Answer>(text, response.status), bytes: new Blob([text]).size }
}

/** Plans an operation without running it. Rejects with a NoAnswer. */
export async function explain(question: Question, signal: AbortSignal): Promise<Explanation | Answer> {
  const response = await send('/api/v1/plans', { method: 'POST', signal, headers, body: JSON.stringify(question) })
  return decode<Explanation | Answer>(response)
}

/** The operations that the project keeps. */
export async function savedOperations(): Promise<SavedOperation[]> {
  const response = await send('/api/v1/operations', {})
  return (await decode<{ operations: SavedOperation[] }>(response)).operations
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

/** What is wrong with the project's files as they were saved last; undefined if nothing is. */
export async function filesTrouble(): Promise<FilesTrouble | undefined> {
  return (await decode<{ files?: FilesTrouble }>(await send('/api/v1/status', {}))).files
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
}

async function assist<T>(what: string, query: string, at: number): Promise<T> {
  return decode<T>(await send(`/api/v1/${what}`, { method: 'POST', headers, body: JSON.stringify({ query, at }) }))
}

export const problems = async (query: string) => (await assist<{ problems: Problem[] }>('problems', query, 0)).problems
export const completions = (query: string, at: number) => assist<{ from: number; completions: Completion[] }>('completions', query, at)
export const meaning = (query: string, at: number) => assist<Meaning | null>('meaning', query, at)
