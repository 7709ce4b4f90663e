/** One line of two texts side by side; undefined where a text has none there. */
export interface Pair {
  left?: string
  right?: string
  same: boolean
}

/** Two texts side by side, line by line: what both have in the same order stands beside each other. */
export function beside(left: string, right: string): Pair[] {
  const a = left === '' ? [] : left.split('\n')
  const b = right === '' ? [] : right.split('\n')
  let begin = 0
  while (begin < a.length && begin < b.length && a[begin] === b[begin]) begin++
  let end = 0
  while (end < a.length - begin && end < b.length - begin && a[a.length - 1 - end] === b[b.length - 1 - end]) end++
  const x = a.slice(begin, a.length - end)
  const y = b.slice(begin, b.length - end)
  const same = (line: string): Pair => ({ left: line, right: line, same: true })
  const between: Pair[] = []
  if (x.length * y.length > 4_000_000) {
    for (const line of x) between.push({ left: line, same: false })
    for (const line of y) between.push({ right: line, same: false })
  } else {
    // How long the longest common part of what follows is, from the end.
    const width = y.length + 1
    const common = new Uint32Array((x.length + 1) * width)
    for (let i = x.length - 1; i >= 0; i--) {
      for (let j = y.length - 1; j >= 0; j--) common[i * width + j] = x[i] === y[j] ? common[(i + 1) * width + j + 1]! + 1 : Math.max(common[(i + 1) * width + j]!, common[i * width + j + 1]!)
    }
    let i = 0
    let j = 0
    let gone: string[] = []
    let come: string[] = []
    const flush = () => {
      for (let k = 0; k < Math.max(gone.length, come.length); k++) between.push({ left: gone[k], right: come[k], same: false })
      gone = []
      come = []
    }
    while (i < x.length || j < y.length) {
      if (i < x.length && j < y.length && x[i] === y[j]) {
        flush()
        between.push(same(x[i]!))
        i++
        j++
      } else if (j >= y.length || (i < x.length && common[(i + 1) * width + j]! >= common[i * width + j + 1]!)) gone.push(x[i++]!)
      else come.push(y[j++]!)
    }
    flush()
  }
  return [...a.slice(0, begin).map(same), ...between, ...a.slice(a.length - end).map(same)]
}
