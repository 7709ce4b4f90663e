import { ref, watch, type Ref } from 'vue'

/** A change of a revision's files that is being written: it is kept until the tab is closed, whatever page is looked at. */
export interface Draft {
  /** Of the revision whose files are changed. */
  number: number
  /** The last that was published when the change was begun: if there is another by then, it is refused. */
  onto: number
  files: Record<string, string>
  note: string
}

const kept = 'osprey.draft'

function read(): Draft | undefined {
  try {
    return (JSON.parse(sessionStorage.getItem(kept) ?? 'null') as Draft | null) ?? undefined
  } catch {
    return undefined
  }
}

export function keptDraft(): Ref<Draft | undefined> {
  const draft = ref<Draft | undefined>(read())
  watch(draft, (now) => {
    if (now) sessionStorage.setItem(kept, JSON.stringify(now))
    else sessionStorage.removeItem(kept)
  }, { deep: true, flush: 'sync' })
  return draft
}
