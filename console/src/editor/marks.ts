import { StateEffect, StateField, type Extension, type Range } from '@codemirror/state'
import { Decoration, EditorView, type DecorationSet } from '@codemirror/view'
import { sourceColour } from '../sources'

/** A field that a source is asked for, and whether it is one of those that are pointed at. */
export interface Mark {
  from: number
  to: number
  source?: string
  enters?: boolean // the source is asked here, and not above
  lit?: boolean
}

const set = StateEffect.define<Mark[]>()

const field = StateField.define<DecorationSet>({
  create: () => Decoration.none,
  update(marks, transaction) {
    let now = marks.map(transaction.changes)
    for (const effect of transaction.effects) {
      if (!effect.is(set)) continue
      const list: Range<Decoration>[] = []
      for (const m of effect.value) {
        if (m.to > transaction.state.doc.length || m.from >= m.to) continue
        const own: Record<string, string> = { class: `${m.enters ? 'cm-from' : ''} ${m.lit ? 'cm-lit' : ''}`.trim() }
        if (m.source) own.style = `--source: ${sourceColour(m.source)}`
        list.push(Decoration.mark({ attributes: own }).range(m.from, m.to))
      }
      now = Decoration.set(list, true)
    }
    return now
  },
  provide: (f) => EditorView.decorations.from(f),
})

/** Thin marks beside the fields that sources are asked for. */
export const sourceMarks: Extension = [
  field,
  EditorView.baseTheme({
    '.cm-from': { boxShadow: '-3px 0 0 -0.5px var(--source)' },
    '.cm-lit': { backgroundColor: 'color-mix(in srgb, var(--source, rgb(var(--v-theme-primary))) 22%, transparent)', borderRadius: '2px' },
  }),
]

/** Shows marks in place of those before. */
export function showMarks(view: EditorView, marks: Mark[]) {
  view.dispatch({ effects: set.of(marks) })
}
