/** What those who run the service ask it: sources, traffic, revisions, keys and roles. */
import type { Json, Schemas } from './calls'
import { decode, headers, orNoAnswer, send } from './client'

/** How often each coordinate was asked in the last 24 hours; undefined where the service counts nothing, or not for this caller. */
export async function usedLately(): Promise<Map<string, number> | undefined> {
  const response = await send('/api/v1/traffic?uses=true', {})
  if (!response.ok) return undefined
  const { operations } = await decode<Json<'/api/v1/traffic'>>(response)
  const counts = new Map<string, number>()
  for (const o of operations) for (const at of o.uses ?? []) counts.set(at, (counts.get(at) ?? 0) + o.asked)
  return counts
}

export type Minute = Schemas['Minute']
export type StoredSet = Schemas['StoredSet']

/** A source, what it holds, and how it is asked. */
export type Source = Schemas['Source']

/** Rejects with a NoAnswer that says why not. */
const administered = async <T>(path: string, init: RequestInit = {}) => orNoAnswer<T>(await send(path, init))

export const allSources = async () => (await administered<Json<'/api/v1/sources'>>('/api/v1/sources')).sources

/** Records as they are in a store. */
export type Stored = Schemas['Stored']

export function storedRows(source: string, query: { set: string; where: string[]; sort?: string; limit: number; offset: number }): Promise<Stored> {
  const q = new URLSearchParams({ set: query.set, limit: String(query.limit), offset: String(query.offset) })
  if (query.sort) q.set('sort', query.sort)
  for (const w of query.where) q.append('where', w)
  return administered(`/api/v1/sources/${encodeURIComponent(source)}/rows?${q}`)
}

/** Something that is wrong, or could be better, with what is served. */
export type Finding = Schemas['Findings'][number]

export const projectFindings = () => administered<Json<'/api/v1/findings'>>('/api/v1/findings')

/** An operation as traffic tells it; times are milliseconds. */
export type Tally = Schemas['Asked']
export type Traffic = Json<'/api/v1/traffic'>
/** What is known of one operation. */
export type OneOperation = Schemas['OneOperation']

export const traffic = (within: string, client: string) => administered<Traffic>(`/api/v1/traffic?${new URLSearchParams({ within, client })}`)
/** Of one operation, by its id; '' stands for the requests that are not told apart. */
export const trafficOf = (id: string, within: string) => administered<OneOperation>(`/api/v1/traffic/${id || '-'}?${new URLSearchParams({ within })}`)
export const unasked = async (within: string) => (await administered<Json<'/api/v1/traffic/uses'>>(`/api/v1/traffic/uses?${new URLSearchParams({ within })}`)).unused

export type Difference = Schemas['Difference']

/** A revision that is kept; files are told of one. */
export type Kept = Schemas['Revision']

/** What came of a publication, or why there was none. */
export type Outcome = Partial<Json<'/api/v1/revisions', 'post'> & Schemas['Problem']>

export const revisions = () => administered<Json<'/api/v1/revisions'>>('/api/v1/revisions')
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
export type ProgramKey = Schemas['Key']

export const programKeys = async () => (await administered<Json<'/api/v1/keys'>>('/api/v1/keys')).keys
export const addProgramKey = (key: { name: string; roles: string[]; until?: string; by: string }) =>
  administered<Json<'/api/v1/keys', 'post'>>('/api/v1/keys', { method: 'POST', headers, body: JSON.stringify(key) })
export const revokeProgramKey = (id: string, by: string) => administered<undefined>(`/api/v1/keys/${encodeURIComponent(id)}?${new URLSearchParams({ by })}`, { method: 'DELETE' })

/** A role, and what of the schema its holders do not see; that without a name is of somebody without one. */
export type RoleView = Schemas['Role']

export const roleViews = async () => (await administered<Json<'/api/v1/roles'>>('/api/v1/roles')).roles
