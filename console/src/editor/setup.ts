import { closeBrackets, closeBracketsKeymap, completionKeymap } from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { bracketMatching, foldGutter, foldKeymap, indentOnInput } from '@codemirror/language'
import { EditorState, type Extension } from '@codemirror/state'
import { drawSelection, EditorView, highlightActiveLine, keymap, lineNumbers } from '@codemirror/view'
import { colours } from './mode'

const look = EditorView.theme({
  '&': { height: '100%', fontSize: '13px', backgroundColor: 'transparent', color: 'rgb(var(--v-theme-on-surface))' },
  '&.cm-focused': { outline: 'none' },
  '.cm-scroller': { fontFamily: 'var(--mono)', lineHeight: '19px' },
  '.cm-gutters': { backgroundColor: 'rgb(var(--v-theme-surface))', border: 'none', zIndex: 1, color: 'rgba(var(--v-theme-on-surface), 0.45)' },
  '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'rgba(var(--v-theme-primary), 0.07)' },
  '.cm-cursor': { borderLeftColor: 'rgb(var(--v-theme-on-surface))' },
  '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'rgba(var(--v-theme-primary), 0.25) !important' },
  '.cm-tooltip': { backgroundColor: 'rgb(var(--v-theme-surface-variant))', color: 'rgb(var(--v-theme-on-surface-variant))', border: 'none' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li': { padding: '3px 8px', fontFamily: 'var(--mono)' },
  '.cm-tooltip.cm-tooltip-autocomplete > ul > li[aria-selected]': { backgroundColor: 'rgb(var(--v-theme-primary))', color: 'rgb(var(--v-theme-on-primary))' },
  '.cm-completionDetail': { fontStyle: 'normal', opacity: '0.75', marginLeft: '1.2em' },
  '.meaning': { padding: '6px 10px', maxWidth: '420px' },
  '.meaning .from': { marginTop: '4px', borderLeft: '3px solid var(--source)', paddingLeft: '6px', fontSize: '12px' },
  '.cm-diagnosticAction': { backgroundColor: 'rgb(var(--v-theme-primary))', color: 'rgb(var(--v-theme-on-primary))', borderRadius: '3px', padding: '1px 6px' },
  '.cm-foldGutter span': { padding: '0 2px' },
  '.cm-matchingBracket': { backgroundColor: 'rgba(var(--v-theme-secondary), 0.3) !important' },
})

/** What both editors have in common. */
export function editorBasics(label: string): Extension[] {
  return [
    look, colours, lineNumbers(), foldGutter(), history(), drawSelection(), indentOnInput(), bracketMatching(), closeBrackets(), highlightActiveLine(),
    keymap.of([...closeBracketsKeymap, ...completionKeymap, ...defaultKeymap, ...historyKeymap, ...foldKeymap, indentWithTab]),
    EditorState.tabSize.of(2), EditorView.contentAttributes.of({ 'aria-label': label }),
  ]
}

/** A view of a long text that cannot be changed. */
export function readerBasics(label: string): Extension[] {
  return [
    look, colours, lineNumbers(), foldGutter(), drawSelection(), bracketMatching(), keymap.of([...defaultKeymap, ...foldKeymap]),
    EditorState.readOnly.of(true), EditorView.contentAttributes.of({ 'aria-label': label }),
  ]
}
