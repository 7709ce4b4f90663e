import { Reader } from './reader'

/** One question of the page: a method of the reader of a sheet. */
interface Asked {
  number: number
  sheet: string
  method: string
  args: unknown[]
}

const readers = new Map<string, Reader>()

self.onmessage = (event: MessageEvent<Asked>) => {
  const { number, sheet, method, args } = event.data
  if (method === 'close') {
    readers.delete(sheet)
    return
  }
  let reader = readers.get(sheet)
  if (!reader) readers.set(sheet, (reader = new Reader()))
  try {
    const own = reader as unknown as Record<string, (...args: unknown[]) => unknown>
    self.postMessage({ number, result: own[method]?.(...args) })
  } catch (error) {
    self.postMessage({ number, problem: error instanceof Error ? error.message : String(error) })
  }
}
