/**
 * What is looked at of one answer. It runs in a worker, so that a large answer never holds up the page: the page asks for the rows
 * that it shows.
 */
import type { Call, Fault } from '../client'

/** What is told of an answer as a whole. */
export interface Head {
  faults: Fault[]
  calls: Call[]
  cost?: number
  hasData: boolean
  rows: number
  /** The lists of records in it, by their paths, the longest first. */
  lists: { path: string; count: number }[]
  /** How many values are otherwise than in the answer before; undefined if there was none to compare. */
  changed?: number
}

export type Kind = 'object' | 'list' | 'string' | 'number' | 'boolean' | 'null'

/** One line of the tree. */
export interface Row {
  at: number
  depth: number
  name: string
  kind: Kind
  text: string
  open?: boolean
  /** The place in the answer, as quays[0].name. */
  path: string
  /** The same without places in lists: the place in the operation. */
  place: string
  changed?: boolean
  hit?: boolean
}

/** A column of a table, whether its values are numbers, and how many characters the longest of the first have. */
export interface Column {
  path: string
  number: boolean
  length: number
}

export interface Table {
  columns: Column[]
  count: number
}

interface Node {
  key: string
  value: unknown
  depth: number
  path: string
  place: string
  inLong: boolean
}

const long = 100

/** Whether a value is a number: decimals and large integers are texts in JSON. What is called id is none, whatever it looks like. */
function isNumber(value: unknown, path: string): boolean {
  if (/(^|\.|[a-z])(id|Id|ID)$/.test(path)) return false
  return typeof value === 'number' || (typeof value === 'string' && /^-?\d{1,30}(\.\d+)?$/.test(value))
}

const isBranch = (v: unknown): v is Record<string, unknown> => v !== null && typeof v === 'object'
const kindOf = (v: unknown): Kind => (v === null ? 'null' : Array.isArray(v) ? 'list' : typeof v === 'object' ? 'object' : (typeof v as Kind))

/** The first values of an object, on one line. */
function summary(value: Record<string, unknown>): string {
  const parts: string[] = []
  for (const [key, v] of Object.entries(value)) {
    if (isBranch(v) || v === null) continue
    parts.push(`${key} ${String(v)}`)
    if (parts.length === 3) break
  }
  return parts.join(' · ')
}

export class Reader {
  private data: unknown
  private before: unknown
  private hasBefore = false
  private flat: Node[] = []
  private folded = new Map<string, boolean>()
  private words = ''
  private same = new WeakMap<object, boolean>()
  private records: unknown[] = []
  private columns: Column[] = []

  /** Reads an answer; compare says that the one before is the same question's. */
  load(text: string, compare: boolean): Head {
    const answer = JSON.parse(text) as { data?: unknown; errors?: Fault[]; extensions?: { calls?: Call[]; cost?: number } }
    this.before = this.data
    this.hasBefore = compare && this.data !== undefined && this.data !== null
    this.data = answer.data
    this.same = new WeakMap()
    this.words = ''
    this.flatten()
    const hasData = 'data' in answer
    return {
      faults: answer.errors ?? [], calls: answer.extensions?.calls ?? [], cost: answer.extensions?.cost, hasData, rows: this.flat.length,
      lists: this.lists(), changed: this.hasBefore && hasData ? this.differences(this.data, this.before) : undefined,
    }
  }

  rows(from: number, to: number): Row[] {
    return this.flat.slice(from, to).map((node, i) => this.row(node, from + i))
  }

  /** Opens or folds a row, with all that is in it if deep. Returns how many rows there are. */
  toggle(at: number, deep: boolean): number {
    const node = this.flat[at]
    if (!node || !isBranch(node.value)) return this.flat.length
    const open = !this.isOpen(node)
    this.folded.set(node.path, open)
    if (deep) this.foldAll(node, open)
    this.flatten()
    return this.flat.length
  }

  /** Looks for words in names and values; returns how many there are, and the row of the first at or behind a row. */
  find(words: string, from: number): { hits: number; at: number; rows: number } {
    this.words = words.toLowerCase()
    if (!this.words) return { hits: 0, at: -1, rows: this.flat.length }
    let hits = 0
    const walk = (node: Node): boolean => {
      let inside = false
      if (isBranch(node.value)) for (const child of this.children(node)) inside = walk(child) || inside
      const own = this.isHit(node)
      if (own) hits++
      if (inside) this.folded.set(node.path, true)
      return own || inside
    }
    for (const child of this.roots()) walk(child)
    this.flatten()
    let at = this.flat.findIndex((node, i) => i >= from && this.isHit(node))
    if (at < 0) at = this.flat.findIndex((node) => this.isHit(node))
    return { hits, at, rows: this.flat.length }
  }

  /** The last row with words before a row. */
  back(from: number): number {
    for (let i = Math.min(from, this.flat.length) - 1; i >= 0; i--) if (this.isHit(this.flat[i]!)) return i
    for (let i = this.flat.length - 1; i >= 0; i--) if (this.isHit(this.flat[i]!)) return i
    return -1
  }

  /** The value of a row as JSON. */
  valueAt(at: number): string {
    return JSON.stringify(this.flat[at]?.value, null, 2) ?? ''
  }

  /** The whole as JSON. */
  text(): string {
    return this.data === undefined ? '' : JSON.stringify(this.data, null, 2)
  }

  /** Makes a list of records a table: a column for each value that is in no further list. */
  table(path: string): Table {
    const list = this.at(path)
    this.records = Array.isArray(list) ? list : []
    const found = new Map<string, { number: boolean; any: boolean }>()
    const look = (value: unknown, at: string) => {
      if (isBranch(value) && !Array.isArray(value)) {
        for (const [key, v] of Object.entries(value)) look(v, at ? `${at}.${key}` : key)
        return
      }
      const column = found.get(at) ?? { number: true, any: false }
      if (value !== null) {
        column.any = true
        column.number &&= isNumber(value, at)
      }
      found.set(at, column)
    }
    for (const record of this.records.slice(0, 2000)) look(record, '')
    // A record that is missing here and there is no column of its own.
    const paths = [...found.keys()].filter((p) => found.get(p)?.any || ![...found.keys()].some((o) => o.startsWith(`${p}.`)))
    const length = (p: string) => this.records.slice(0, 100).reduce<number>((most, r) => {
      const v = cell(r, p)
      return Math.max(most, Array.isArray(v) ? 8 : String(v ?? '').length)
    }, p.length + 2)
    this.columns = paths.map((p) => ({ path: p, number: (found.get(p)?.any && found.get(p)?.number) ?? false, length: length(p) }))
    return { columns: this.columns, count: this.records.length }
  }

  /** Sorts the table by a column. */
  sort(column: string, down: boolean): void {
    const sign = down ? -1 : 1
    this.records = [...this.records].sort((a, b) => {
      const x = cell(a, column)
      const y = cell(b, column)
      if (x === y) return 0
      if (x === null || x === undefined) return 1
      if (y === null || y === undefined) return -1
      return (isNumber(x, '') && isNumber(y, '') ? Number(x) - Number(y) : String(x).localeCompare(String(y))) * sign
    })
  }

  /** The cells of rows of the table: texts, and of lists how long they are. */
  cells(from: number, to: number): { text: string; list?: number }[][] {
    return this.records.slice(from, to).map((record) =>
      this.columns.map((column) => {
        const value = cell(record, column.path)
        if (Array.isArray(value)) return { text: `${value.length} ${value.length === 1 ? 'item' : 'items'}`, list: value.length }
        return { text: value === null || value === undefined ? '' : String(value) }
      }),
    )
  }

  /** What is in a list within a cell, as a table of its own. */
  inside(row: number, column: string): { columns: string[]; rows: string[][] } {
    const list = cell(this.records[row], column)
    const inner = new Reader()
    inner.data = { list }
    const table = inner.table('list')
    const plain = table.columns.length === 1 && table.columns[0]?.path === ''
    return {
      columns: plain ? [''] : table.columns.map((c) => c.path),
      rows: inner.cells(0, 200).map((cells) => cells.map((c) => c.text)),
    }
  }

  /** The numbers of a column beside the values of another, for a chart. */
  series(label: string, number: string): { labels: string[]; values: (number | null)[] } {
    const records = this.records.slice(0, 5000)
    return {
      labels: records.map((r) => String(cell(r, label) ?? '')),
      values: records.map((r) => {
        const v = cell(r, number)
        return typeof v === 'number' ? v : v === null || v === undefined || v === '' || Number.isNaN(Number(v)) ? null : Number(v)
      }),
    }
  }

  /** The table as CSV (RFC 4180). */
  csv(): string {
    const quoted = (text: string) => (/[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text)
    const lines = [this.columns.map((c) => quoted(c.path || 'value')).join(',')]
    for (const record of this.records) {
      lines.push(this.columns.map((c) => {
        const value = cell(record, c.path)
        return quoted(value === null || value === undefined ? '' : isBranch(value) ? JSON.stringify(value) : String(value))
      }).join(','))
    }
    return lines.join('\r\n') + '\r\n'
  }

  private roots(): Node[] {
    if (!isBranch(this.data)) return this.data === null ? [] : []
    return Object.entries(this.data).map(([key, value]) => ({ key, value, depth: 0, path: key, place: key, inLong: false }))
  }

  private children(node: Node): Node[] {
    if (!isBranch(node.value)) return []
    const depth = node.depth + 1
    if (Array.isArray(node.value)) {
      const inLong = node.value.length > long
      return node.value.map((value: unknown, i) => ({ key: String(i + 1), value, depth, path: `${node.path}[${i}]`, place: node.place, inLong }))
    }
    return Object.entries(node.value).map(([key, value]) => ({ key, value, depth, path: `${node.path}.${key}`, place: `${node.place}.${key}`, inLong: false }))
  }

  private isOpen(node: Node): boolean {
    const said = this.folded.get(node.path)
    if (said !== undefined) return said
    if (Array.isArray(node.value)) return node.depth < 1 || node.value.length <= 3
    return !node.inLong
  }

  private foldAll(node: Node, open: boolean) {
    for (const child of this.children(node)) {
      if (!isBranch(child.value)) continue
      this.folded.set(child.path, open)
      this.foldAll(child, open)
    }
  }

  private flatten() {
    const flat: Node[] = []
    const add = (node: Node) => {
      flat.push(node)
      if (isBranch(node.value) && this.isOpen(node)) for (const child of this.children(node)) add(child)
    }
    for (const node of this.roots()) add(node)
    this.flat = flat
  }

  private row(node: Node, at: number): Row {
    const kind = kindOf(node.value)
    const row: Row = { at, depth: node.depth, name: node.key, kind, text: '', path: node.path, place: node.place }
    if (isBranch(node.value)) {
      const n = Object.keys(node.value).length
      if (n > 0) row.open = this.isOpen(node)
      if (Array.isArray(node.value)) row.text = `${n} ${n === 1 ? 'item' : 'items'}`
      else if (!row.open) row.text = summary(node.value)
    } else row.text = String(node.value)
    if (this.hasBefore) row.changed = this.isChanged(node)
    if (this.words) row.hit = this.isHit(node)
    return row
  }

  private isHit(node: Node): boolean {
    return this.words !== '' && (node.key.toLowerCase().includes(this.words) || (!isBranch(node.value) && String(node.value).toLowerCase().includes(this.words)))
  }

  private isChanged(node: Node): boolean {
    const before = valueOf(this.before, node.path)
    if (!isBranch(node.value)) return before !== node.value
    let same = this.same.get(node.value)
    if (same === undefined) {
      same = this.differences(node.value, before, 1) === 0
      this.same.set(node.value, same)
    }
    return !same
  }

  /** How many values differ, up to a number of them. */
  private differences(a: unknown, b: unknown, most = 1e9): number {
    if (!isBranch(a) || !isBranch(b)) return a === b ? 0 : 1
    let n = 0
    for (const key of Object.keys(a)) {
      n += key in b ? this.differences(a[key], b[key], most - n) : 1
      if (n >= most) return n
    }
    for (const key of Object.keys(b)) if (!(key in a)) n++
    return n
  }

  private lists(): { path: string; count: number }[] {
    const found = new Map<string, number>()
    const look = (value: unknown, path: string, depth: number) => {
      if (!isBranch(value) || depth > 6) return
      if (Array.isArray(value)) {
        if (value.length) found.set(path, value.length)
        return
      }
      for (const [key, v] of Object.entries(value)) look(v, path ? `${path}.${key}` : key, depth + 1)
    }
    look(this.data, '', 0)
    return [...found].map(([path, count]) => ({ path, count })).sort((a, b) => b.count - a.count)
  }

  private at(path: string): unknown {
    return valueOf(this.data, path)
  }
}

/** The value at a path such as quays[0].name. */
function valueOf(value: unknown, path: string): unknown {
  for (const part of path.split(/[.[\]]+/)) {
    if (part === '') continue
    if (!isBranch(value)) return undefined
    value = value[part]
  }
  return value
}

function cell(record: unknown, path: string): unknown {
  return path === '' ? record : valueOf(record, path)
}
