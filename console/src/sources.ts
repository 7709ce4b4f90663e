const seen: string[] = []

/** The colour of a source: the same wherever it appears, in the order of first sight. */
export function sourceColour(name: string): string {
  let i = seen.indexOf(name)
  if (i < 0) i = seen.push(name) - 1
  return `var(--source-${i % 5})`
}
