<script setup lang="ts">
import { EditorState, Prec, type Extension } from '@codemirror/state'
import { EditorView, keymap } from '@codemirror/view'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { Fault } from '../client'
import { placeOf, underlineAgain, writingHelp } from '../editor/assist'
import { showMarks, sourceMarks, type Mark } from '../editor/marks'
import { editorBasics, readerBasics } from '../editor/setup'

const props = defineProps<{ label: string; language: Extension; readonly?: boolean; help?: boolean; faults?: Fault[]; marks?: Mark[] }>()
const text = defineModel<string>({ required: true })
const emit = defineEmits<{ run: []; tidy: []; rename: [at: number]; at: [offset: number] }>()
defineExpose({ goTo, focus: () => view?.focus(), underlineAgain: () => view && underlineAgain(view) })

const host = useTemplateRef<HTMLElement>('host')
let view: EditorView | undefined

onMounted(() => {
  const run = () => (emit('run'), true)
  view = new EditorView({
    parent: host.value ?? undefined,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        Prec.highest(keymap.of([
          { key: 'Mod-Enter', run }, { key: 'Ctrl-Enter', run },
          { key: 'Shift-Alt-f', run: () => (emit('tidy'), true) },
          { key: 'F2', run: (v) => (emit('rename', v.state.selection.main.head), true) },
        ])),
        props.help ? writingHelp(() => props.faults ?? []) : [],
        props.readonly ? readerBasics(props.label) : editorBasics(props.label),
        props.language,
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString()
          if (update.selectionSet && !update.docChanged) emit('at', update.state.selection.main.head)
        }),
        props.help ? sourceMarks : [],
      ],
    }),
  })
})
onBeforeUnmount(() => view?.destroy())

watch(text, (value) => {
  if (view && value !== view.state.doc.toString()) {
    // Only what differs, so that the cursor and what was folded stay where they were.
    const now = view.state.doc.toString()
    let from = 0
    while (from < now.length && from < value.length && now[from] === value[from]) from++
    let same = 0
    while (same < now.length - from && same < value.length - from && now[now.length - 1 - same] === value[value.length - 1 - same]) same++
    view.dispatch({ changes: { from, to: now.length - same, insert: value.slice(from, value.length - same) } })
  }
})
watch(() => props.marks, (marks) => {
  if (view && marks) showMarks(view, marks)
}, { flush: 'post' })
watch(() => props.faults, () => {
  if (view && props.help) underlineAgain(view)
})

/** Puts the cursor at a place and shows it. */
function goTo(at: { line: number; column: number }) {
  if (!view) return
  view.dispatch({ selection: { anchor: placeOf(view.state, at) }, scrollIntoView: true })
  view.focus()
}
</script>

<template>
  <div ref="host" class="host" />
</template>

<style scoped>
.host {
  height: 100%;
  min-height: 0;
  overflow: hidden;
}
</style>
