import { foldService, HighlightStyle, StreamLanguage, syntaxHighlighting, type StreamParser } from '@codemirror/language'
import { tags } from '@lezer/highlight'
import { foldable } from './selection'

const keywords = new Set([
  'query', 'mutation', 'subscription', 'fragment', 'on', 'schema', 'scalar', 'type', 'interface', 'union', 'enum', 'input',
  'directive', 'extend', 'implements', 'repeatable',
])
const atoms = new Set(['true', 'false', 'null'])

interface State {
  block: boolean // inside a block string
  parens: number // depth of parentheses: names in front of a colon are arguments there
  afterColon: boolean
  afterOn: boolean // the next name is a type
}

/** Colours operations; what they mean is the service's to say. */
const parser: StreamParser<State> = {
  name: 'operation',
  startState: () => ({ block: false, parens: 0, afterColon: false, afterOn: false }),
  token(stream, state) {
    if (state.block) {
      if (stream.skipTo('"""')) {
        stream.match('"""')
        state.block = false
      } else stream.skipToEnd()
      return 'string'
    }
    if (stream.eatSpace()) return null
    if (stream.match('#')) {
      stream.skipToEnd()
      return 'comment'
    }
    if (stream.match('"""')) {
      state.block = true
      return 'string'
    }
    if (stream.match(/^"(?:[^"\\]|\\.)*"?/)) return 'string'
    if (stream.match(/^\$[_A-Za-z]\w*/)) return 'variableName'
    if (stream.match(/^@[_A-Za-z]\w*/)) return 'meta'
    if (stream.match(/^-?\d+(\.\d+)?([eE][+-]?\d+)?/)) return 'number'
    if (stream.match('...')) return 'operator'
    const word = stream.match(/^[_A-Za-z]\w*/) as RegExpMatchArray | null
    if (word) {
      const type = state.afterOn || (state.afterColon && /^[A-Z]/.test(word[0]) && !/^[A-Z0-9_]+$/.test(word[0]))
      state.afterOn = word[0] === 'on'
      state.afterColon = false
      if (type) return 'typeName'
      if (keywords.has(word[0]) && state.parens === 0) return 'keyword'
      if (atoms.has(word[0])) return 'atom'
      if (/^[A-Z][A-Z0-9_]*$/.test(word[0])) return 'atom'
      if (state.parens > 0 && stream.match(/^\s*:/, false)) return 'labelName'
      return 'propertyName'
    }
    const c = stream.next()
    if (c === '(') state.parens++
    if (c === ')') state.parens = Math.max(0, state.parens - 1)
    state.afterColon = c === ':' || (state.afterColon && c === '[')
    return 'punctuation'
  },
  languageData: { commentTokens: { line: '#' }, closeBrackets: { brackets: ['(', '[', '{', '"'] } },
}

export const operationMode = [
  StreamLanguage.define(parser),
  foldService.of((state, from, to) => foldable(state.doc.toString(), from, to)),
]

/** Colours of tokens, through variables that follow the theme. */
export const colours = syntaxHighlighting(
  HighlightStyle.define([
    { tag: tags.keyword, color: 'var(--ed-keyword)', fontWeight: '600' },
    { tag: tags.propertyName, color: 'var(--ed-field)' },
    { tag: tags.typeName, color: 'var(--ed-type)' },
    { tag: tags.labelName, color: 'var(--ed-argument)' },
    { tag: tags.variableName, color: 'var(--ed-variable)' },
    { tag: [tags.string], color: 'var(--ed-string)' },
    { tag: [tags.number, tags.atom, tags.bool, tags.null], color: 'var(--ed-atom)' },
    { tag: tags.comment, color: 'var(--ed-comment)', fontStyle: 'italic' },
    { tag: [tags.meta, tags.operator], color: 'var(--ed-keyword)' },
  ]),
)
