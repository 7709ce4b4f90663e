import { autocompletion, startCompletion, type CompletionContext, type CompletionResult } from '@codemirror/autocomplete'
import { json } from '@codemirror/lang-json'
import { linter } from '@codemirror/lint'
import type { Extension } from '@codemirror/state'
import type { EditorView } from '@codemirror/view'
import { variableCompletions, type Given, type VariableProblem } from '../client'
import { diagnostic, isKnownAnew, offsetOf, pointsTo } from './assist'

/** Puts a completion in place of what is written, and the cursor where writing goes on. */
function put(view: EditorView, label: string, from: number, to: number) {
  const end = view.state.sliceDoc(to, to + 1) === '"' && view.state.sliceDoc(from, from + 1) === '"' ? to + 1 : to // a quote that was closed by itself
  const inside = label === '{}' || label === '[]'
  view.dispatch({ changes: { from, to: end, insert: label }, selection: { anchor: from + label.length - (inside ? 1 : 0) }, userEvent: 'input.complete' })
  if (inside || label.endsWith(': ')) startCompletion(view)
}

/** Help while variables are written: their names and values, and what does not fit their types. */
export function variableHelp(given: () => Given, problems: () => VariableProblem[]): Extension {
  async function complete(context: CompletionContext): Promise<CompletionResult | null> {
    const word = context.matchBefore(/"[^"\n]*|\w+/)
    if (!context.explicit && !word) return null
    const text = context.state.doc.toString()
    const got = await variableCompletions({ ...given(), variables: text }, pointsTo(text, context.pos)).catch(() => null)
    if (!got?.completions.length) return null
    return {
      from: offsetOf(text, got.from),
      options: got.completions.map((c, i) => ({
        label: c.label, displayLabel: c.label.replace(/^"(.*?)"(: )?$/, '$1'), detail: c.detail, info: c.text || undefined, boost: -i / 10,
        apply: (view: EditorView, _: unknown, from: number, to: number) => put(view, c.label, from, to),
      })),
    }
  }
  return [
    json(), autocompletion({ override: [complete], icons: false }),
    linter((view) => problems().map((p) => diagnostic(view.state, p, p.fix ? `${p.message} → ${p.fix}` : p.message)), { delay: 0, needsRefresh: isKnownAnew }),
  ]
}
