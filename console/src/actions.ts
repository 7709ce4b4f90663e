/** What can be done on the page that is open: the palette and the keys ask for it, and the page does it. */
export interface Action {
  name: string
  title: string
  keys?: string
}

/** What the Ask page can do. */
export const askActions: Action[] = [
  { name: 'run', title: 'Run the operation', keys: 'Ctrl Enter' },
  { name: 'plan', title: 'Plan it: which stores would be asked' },
  { name: 'tidy', title: 'Format the operation', keys: 'Shift Alt F' },
  { name: 'link', title: 'Copy a link to the operation' },
  { name: 'operation', title: 'Go to the operation' },
  { name: 'variables', title: 'Open or close the variables' },
  { name: 'fields', title: 'Open or close the fields' },
  { name: 'headers', title: 'Open or close the headers' },
  { name: 'history', title: 'Open or close the history' },
  { name: 'strip', title: 'Fold or open the store requests' },
]

const known = new Map<string, () => void>()

/** Says what is done for an action, until it is called off. */
export function onAction(name: string, done: () => void): () => void {
  known.set(name, done)
  return () => {
    if (known.get(name) === done) known.delete(name)
  }
}

/** Does an action; false if nothing on the page does it. */
export function act(name: string): boolean {
  const done = known.get(name)
  done?.()
  return done !== undefined
}
