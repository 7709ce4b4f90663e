import type { Reader } from './reader'

/** The methods of a reader, each answered by the worker. */
export type Remote = {
  [M in 'load' | 'rows' | 'toggle' | 'find' | 'back' | 'valueAt' | 'text' | 'table' | 'sort' | 'cells' | 'inside' | 'series' | 'csv']: (
    ...args: Parameters<Reader[M]>
  ) => Promise<ReturnType<Reader[M]>>
}

let worker: Worker | undefined
let number = 0
const waiting = new Map<number, { done: (result: unknown) => void; failed: (why: Error) => void }>()

function send(sheet: string, method: string, args: unknown[]): Promise<unknown> {
  if (!worker) {
    worker = new Worker(new URL('./worker.ts', import.meta.url), { type: 'module' })
    worker.onmessage = (event: MessageEvent<{ number: number; result?: unknown; problem?: string }>) => {
      const { number: n, result, problem } = event.data
      const asked = waiting.get(n)
      waiting.delete(n)
      if (problem !== undefined) asked?.failed(new Error(problem))
      else asked?.done(result)
    }
  }
  const own = ++number
  const answered = new Promise((done, failed) => waiting.set(own, { done, failed }))
  worker.postMessage({ number: own, sheet, method, args })
  return answered
}

/** The reader of a sheet's answer. */
export function readerOf(sheet: string): Remote {
  return new Proxy({} as Remote, { get: (_, method: string) => (...args: unknown[]) => send(sheet, method, args) })
}

/** Forgets the answer of a sheet. */
export function closeReader(sheet: string) {
  worker?.postMessage({ number: 0, sheet, method: 'close', args: [] })
}
