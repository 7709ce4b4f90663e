/** What those who run the service ask it: sources, traffic, revisions, keys and roles. */
import { decode, headers, NoAnswer, send } from './client'

/** How often each coordinate was asked in the last 24 hours; undefined where the service counts nothing, or not for this caller. */
export async function usedLately(): Promise<Map<string, number> | undefined> {
  const response = await send('/api/v1/traffic?uses=true', {})
  if (!response.ok) return undefined
  const { operations } = await decode<{ operations: { asked: number; uses?: string[] }[] }>(response)
  const counts = new Map<string, number>()
  for (const o of operations) for (const at of o.uses ?? []) counts.set(at, (counts.get(at) ?? 0) + o.asked)
  return counts
}

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
