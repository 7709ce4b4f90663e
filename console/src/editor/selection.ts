/**
 * Where the fields of an operation stand in its text, by the places of the answer that they are: as far as the text makes sense,
 * since it is followed while it is written. What it means is the service's to say.
 */

/** A field in the text. */
export interface Placed {
  /** Its place in the answer, such as quays.name, without places in lists. */
  place: string
  name: string
  /** Where it begins, and its name ends. */
  from: number
  to: number
  /** Where its selections stand between braces; missing if it has none. */
  inside?: { from: number; to: number }
  /** Where it ends, with arguments and selections. */
  end: number
}

export interface Variable {
  name: string
  type: string
  fallback?: string
}

export interface Definition {
  kind: 'query' | 'mutation' | 'subscription' | 'fragment'
  name: string
  on?: string
  from: number
  inside?: { from: number; to: number }
  fields: Item[]
  variables: Variable[]
}

interface Item {
  field?: { name: string; alias?: string; from: number; to: number; end: number; inside?: { from: number; to: number } }
  spread?: string
  items: Item[]
}

interface Token {
  text: string
  from: number
  to: number
}

const form = /"""[\s\S]*?(?:"""|$)|"(?:\\.|[^"\\\n])*"?|#[^\n]*|\.\.\.|[$@]?[_A-Za-z]\w*|-?\d[\d.eE+-]*|[{}()[\]:=!|&@$]/g

/** Where the bracket that opens first in a part of the text closes, if that is behind the part: what is between can be folded. */
export function foldable(text: string, from: number, to: number): { from: number; to: number } | null {
  const open: Token[] = []
  for (const t of tokens(text)) {
    if (t.text === '{' || t.text === '(') open.push(t)
    if (t.text !== '}' && t.text !== ')') continue
    const own = open.pop()
    if (own && own.from >= from && own.from < to && t.from > to && !open.some((o) => o.from >= from && o.from < to)) return { from: own.to, to: t.from }
  }
  return null
}

function tokens(text: string): Token[] {
  const list: Token[] = []
  for (const m of text.matchAll(form)) if (!m[0].startsWith('#')) list.push({ text: m[0], from: m.index, to: m.index + m[0].length })
  return list
}

const isName = (t?: Token) => t !== undefined && /^[_A-Za-z]/.test(t.text)

/** The definitions of a text. */
export function definitions(text: string): Definition[] {
  const list = tokens(text)
  let i = 0

  /** Passes over what stands between brackets. */
  function pass(open: string, close: string) {
    if (list[i]?.text !== open) return
    for (let depth = 0; i < list.length; i++) {
      if (list[i]?.text === open) depth++
      if (list[i]?.text === close && --depth === 0) {
        i++
        return
      }
    }
  }

  function directives() {
    while (list[i]?.text.startsWith('@')) {
      i++
      pass('(', ')')
    }
  }

  function selections(): { items: Item[]; inside?: { from: number; to: number } } {
    const items: Item[] = []
    const open = list[i]
    if (open?.text !== '{') return { items }
    i++
    while (i < list.length && list[i]?.text !== '}') {
      const t = list[i]!
      if (t.text === '...') {
        i++
        if (list[i]?.text === 'on') i += 2
        else if (isName(list[i])) {
          items.push({ spread: list[i]!.text, items: [] })
          i++
          directives()
          continue
        }
        directives()
        items.push({ items: selections().items })
        continue
      }
      if (!isName(t)) {
        i++
        continue
      }
      i++
      let name = t
      let alias: string | undefined
      if (list[i]?.text === ':' && isName(list[i + 1])) {
        alias = t.text
        name = list[i + 1]!
        i += 2
      }
      pass('(', ')')
      directives()
      const inner = selections()
      items.push({
        field: { name: name.text, alias, from: t.from, to: name.to, end: list[i - 1]?.to ?? name.to, inside: inner.inside },
        items: inner.items,
      })
    }
    const close = list[i]
    i++
    return { items, inside: { from: open.to, to: close?.from ?? text.length } }
  }

  function variables(): Variable[] {
    const found: Variable[] = []
    if (list[i]?.text !== '(') return found
    const start = i
    pass('(', ')')
    for (let j = start + 1; j < i - 1; j++) {
      const t = list[j]!
      if (!t.text.startsWith('$') || list[j + 1]?.text !== ':') continue
      let k = j + 2
      while (k < i - 1 && /^(?:[[\]!]|[_A-Za-z]\w*)$/.test(list[k]!.text) && list[k + 1]?.text !== ':') k++
      const v: Variable = { name: t.text.slice(1), type: text.slice(list[j + 2]!.from, list[k - 1]!.to).replace(/\s/g, '') }
      if (list[k]?.text === '=') {
        const from = k + 1
        let depth = 0
        for (k = from; k < i - 1; k++) {
          if ('[{('.includes(list[k]!.text)) depth++
          if (']})'.includes(list[k]!.text)) depth--
          if (depth === 0 && (list[k + 1]?.text.startsWith('$') || list[k + 1]?.text.startsWith('@') || k + 1 >= i - 1)) break
        }
        v.fallback = text.slice(list[from]!.from, list[Math.min(k, i - 2)]!.to)
      }
      found.push(v)
      j = k - 1
    }
    return found
  }

  const found: Definition[] = []
  while (i < list.length) {
    const t = list[i]!
    if (t.text === '{') {
      const inner = selections()
      found.push({ kind: 'query', name: '', from: t.from, fields: inner.items, inside: inner.inside, variables: [] })
    } else if (t.text === 'query' || t.text === 'mutation' || t.text === 'subscription') {
      i++
      const name = isName(list[i]) ? list[i++]!.text : ''
      const own = variables()
      directives()
      const inner = selections()
      found.push({ kind: t.text, name, from: t.from, fields: inner.items, inside: inner.inside, variables: own })
    } else if (t.text === 'fragment') {
      const name = list[i + 1]?.text ?? ''
      const on = list[i + 3]?.text
      i += 4
      directives()
      const inner = selections()
      found.push({ kind: 'fragment', name, on, from: t.from, fields: inner.items, inside: inner.inside, variables: [] })
    } else i++
  }
  return found
}

/** The operation of a name, or the first. */
export function operationOf(list: Definition[], name?: string): Definition | undefined {
  const own = list.filter((d) => d.kind !== 'fragment')
  return own.find((d) => d.name === name) ?? own[0]
}

/** The fields of an operation with their places in the answer; those of a fragment once for each place where it is spread. */
export function places(list: Definition[], name?: string): Placed[] {
  const found: Placed[] = []
  const walk = (items: Item[], at: string, within: string[]) => {
    for (const item of items) {
      if (item.spread) {
        const fragment = list.find((d) => d.kind === 'fragment' && d.name === item.spread)
        if (fragment && !within.includes(fragment.name)) walk(fragment.fields, at, [...within, fragment.name])
        continue
      }
      if (!item.field) {
        walk(item.items, at, within)
        continue
      }
      const place = (at ? `${at}.` : '') + (item.field.alias ?? item.field.name)
      found.push({ place, name: item.field.name, from: item.field.from, to: item.field.to, end: item.field.end, inside: item.field.inside })
      walk(item.items, place, within)
    }
  }
  const own = operationOf(list, name)
  if (own) walk(own.fields, '', [])
  return found
}

/** Puts another name in place of a variable or fragment wherever it stands. Returns the changes, or nothing if the place has neither. */
export function renamed(text: string, at: number, to: string): { changes: { from: number; to: number; insert: string }[]; was: string } | undefined {
  const list = tokens(text)
  const own = list.findIndex((t) => t.from <= at && at <= t.to && /^\$?[_A-Za-z]/.test(t.text))
  const t = list[own]
  if (!t) return undefined
  if (t.text.startsWith('$')) {
    return { was: t.text.slice(1), changes: list.filter((o) => o.text === t.text).map((o) => ({ from: o.from + 1, to: o.to, insert: to })) }
  }
  const isFragment = (i: number) => list[i - 1]?.text === 'fragment' || (list[i - 1]?.text === '...' && list[i]?.text !== 'on')
  if (!isFragment(own)) return undefined
  return { was: t.text, changes: list.flatMap((o, i) => (o.text === t.text && isFragment(i) ? [{ from: o.from, to: o.to, insert: to }] : [])) }
}

/** The variables of a query that must be given; nothing of a text that is no query. */
export function needsOf(text: string): Definition['variables'] | undefined {
  const op = operationOf(definitions(text))
  return op?.kind === 'query' ? op.variables.filter((v) => v.type.endsWith('!') && v.fallback === undefined) : undefined
}

/** Whether a text is a query that needs no values: nothing is written by it, and nothing has to be filled in. */
export const needsNothing = (text: string) => needsOf(text)?.length === 0
