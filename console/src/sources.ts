import { shallowRef } from 'vue'

/** The names of the sources, in order: each has its colour by its place among them, wherever it is seen. */
const known = shallowRef<string[]>([])

/** How many colours there are. */
const colours = 6

/** Says which sources there are. */
export function knowSources(names: string[]) {
  const sorted = [...new Set(names)].sort()
  if (sorted.join('\n') !== known.value.join('\n')) known.value = sorted
}

/** The colour of a source: the same wherever it appears. */
export function sourceColour(name: string): string {
  const i = known.value.indexOf(name)
  if (i >= 0) return `var(--source-${i % colours})`
  let sum = 0
  for (const c of name) sum = (sum * 31 + c.codePointAt(0)!) % 997
  return `var(--source-${sum % colours})`
}
