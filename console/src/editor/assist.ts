import { autocompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { forEachDiagnostic, linter, type Diagnostic } from '@codemirror/lint'
import { StateEffect, type EditorState, type Extension } from '@codemirror/state'
import { EditorView, hoverTooltip, keymap, type ViewUpdate } from '@codemirror/view'
import { completions, meaning, problems, type Fault, type Problem } from '../client'
import { sourceColour } from '../sources'

/** Code points in front of an offset, which the editor counts in UTF-16. */
export const pointsTo = (text: string, offset: number) => [...text.slice(0, offset)].length

/** The offset of a number of code points. */
export const offsetOf = (text: string, points: number) => [...text].slice(0, points).join('').length

/** The offset of a place told in lines and code points, both from 1. */
export function placeOf(state: EditorState, at: { line: number; column: number }): number {
  const line = state.doc.line(Math.min(Math.max(at.line, 1), state.doc.lines))
  return Math.min(line.from + offsetOf(line.text, at.column - 1), state.doc.length)
}

const known = StateEffect.define()
/** Says that what is known of a text is otherwise than before, so that it is underlined anew. */
export const underlineAgain = (view: EditorView) => view.dispatch({ effects: known.of(null) })
export const isKnownAnew = (update: ViewUpdate) => update.transactions.some((t) => t.effects.some((e) => e.is(known)))

async function complete(context: CompletionContext): Promise<CompletionResult | null> {
  const word = context.matchBefore(/[\w$@]+/)
  const before = context.state.sliceDoc(Math.max(0, context.pos - 1), context.pos)
  if (!context.explicit && !word && !/[{(@$.:\s]/.test(before)) return null
  const text = context.state.doc.toString()
  const got = await completions(text, pointsTo(text, context.pos)).catch(() => null)
  if (!got || got.completions.length === 0) return null
  // Where nothing has been typed, fields are offered only when asked for.
  if (!context.explicit && !word && before !== '{' && before !== '(' && before !== '@' && before !== '$' && before !== '.') return null
  return {
    from: offsetOf(text, got.from),
    validFor: /^\w*$/,
    options: got.completions.map((c, i) => ({
      label: c.label, detail: c.detail, info: c.text || undefined, boost: -i / 10,
      apply: c.kind === 'argument' ? `${c.label}: ` : c.label,
    })),
  }
}

/** Marks a word of the text; what the message says to do about it can be done by a button. */
export function diagnostic(state: EditorState, at: { line: number; column: number }, message: string, mends: Problem['mends'] = []): Diagnostic {
  const from = placeOf(state, at)
  const word = /^([$@]?\w+|"[^"\n]*"?)/.exec(state.sliceDoc(from, from + 60))
  const text = state.doc.toString()
  const actions = mends.map((m) => ({ from: offsetOf(text, m.from), to: offsetOf(text, m.to), with: m.with })).map((m) => ({
    name: titleOf(text, m),
    apply: (view: EditorView) => view.dispatch({ changes: { from: m.from, to: m.to, insert: m.with }, userEvent: 'input.mend' }),
  }))
  return { from, to: Math.min(from + (word?.[0].length ?? 1), state.doc.length), severity: 'error', message, actions }
}

/** What a change does, with the words that it changes whole. */
function titleOf(text: string, m: { from: number; to: number; with: string }): string {
  const before = /[$@\w]*$/.exec(text.slice(0, m.from))?.[0] ?? ''
  const after = /^\w*/.exec(text.slice(m.to))?.[0] ?? ''
  const now = (before + m.with + after).replace(/\s+/g, ' ').trim()
  return now ? `Make it ${now.length > 40 ? `${now.slice(0, 40)}…` : now}` : 'Leave it out'
}

/** Does what the message at the cursor says, or the first one. */
function mendHere(view: EditorView): boolean {
  let best: Diagnostic | undefined
  const { head } = view.state.selection.main
  forEachDiagnostic(view.state, (d, from, to) => {
    if (d.actions?.length && (!best || (from <= head && head <= to))) best = { ...d, from, to }
  })
  const action = best?.actions?.[0]
  if (!best || !action) return false
  action.apply(view, best.from, best.to)
  return true
}

/** Underlines what is wrong, as the service's language core tells it, and where fields failed in the last run. */
function underline(faults: () => Fault[]): Extension {
  return linter(
    async (view) => {
      const text = view.state.doc.toString()
      if (text.trim() === '') return []
      const found = await problems(text).catch(() => [])
      const list = found.map((p) => diagnostic(view.state, p, p.fix ? `${p.message} → ${p.fix}` : p.message, p.mends))
      for (const fault of faults()) {
        const known = fault.extensions?.code === 'SYNTAX' || fault.extensions?.code === 'INVALID'
        if (!known && fault.locations?.[0]) list.push(diagnostic(view.state, fault.locations[0], fault.message))
      }
      return list.sort((a, b) => a.from - b.from)
    },
    { delay: 350, needsRefresh: isKnownAnew },
  )
}

const explain = hoverTooltip(async (view, pos) => {
  const text = view.state.doc.toString()
  const m = await meaning(text, pointsTo(text, pos)).catch(() => null)
  if (!m) return null
  return {
    pos: offsetOf(text, m.from),
    end: offsetOf(text, m.to),
    create() {
      const dom = document.createElement('div')
      dom.className = 'meaning'
      const title = dom.appendChild(document.createElement('code'))
      title.textContent = m.title
      if (m.text) dom.appendChild(document.createElement('div')).textContent = m.text
      if (m.where) {
        const from = dom.appendChild(document.createElement('div'))
        from.className = 'from'
        from.style.setProperty('--source', sourceColour(m.where.split(' · ')[0] ?? ''))
        from.textContent = m.where
      }
      return { dom }
    },
  }
})

/** Goes to where the word at a position is defined in the text, with Ctrl or Cmd and a click. */
const jump = EditorView.domEventHandlers({
  mousedown(event, view) {
    if (!event.ctrlKey && !event.metaKey) return false
    const pos = view.posAtCoords({ x: event.clientX, y: event.clientY })
    if (pos === null) return false
    const text = view.state.doc.toString()
    void meaning(text, pointsTo(text, pos))
      .then((m) => {
        if (m && m.defined >= 0) view.dispatch({ selection: { anchor: offsetOf(text, m.defined) }, scrollIntoView: true })
      })
      .catch(() => undefined)
    return true
  },
})

/** Help while an operation is written: completion, problems, meanings, definitions. */
export function writingHelp(faults: () => Fault[]): Extension {
  return [autocompletion({ override: [complete], icons: false }), underline(faults), explain, jump, keymap.of([{ key: 'Mod-.', run: mendHere }])]
}
