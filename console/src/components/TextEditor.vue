<script setup lang="ts">
import { forceLinting } from '@codemirror/lint'
import { EditorState, Prec, type Extension } from '@codemirror/state'
import { EditorView, keymap } from '@codemirror/view'
import { onBeforeUnmount, onMounted, useTemplateRef, watch } from 'vue'
import type { Fault } from '../client'
import { placeOf, writingHelp } from '../editor/assist'
import { editorBasics, readerBasics } from '../editor/setup'

const props = defineProps<{ label: string; language: Extension; readonly?: boolean; help?: boolean; faults?: Fault[] }>()
const text = defineModel<string>({ required: true })
const emit = defineEmits<{ run: [] }>()
defineExpose({ goTo })

const host = useTemplateRef<HTMLElement>('host')
let view: EditorView | undefined

onMounted(() => {
  const run = () => (emit('run'), true)
  view = new EditorView({
    parent: host.value ?? undefined,
    state: EditorState.create({
      doc: text.value,
      extensions: [
        Prec.highest(keymap.of([{ key: 'Mod-Enter', run }, { key: 'Ctrl-Enter', run }])),
        props.help ? writingHelp(() => props.faults ?? []) : [],
        props.readonly ? readerBasics(props.label) : editorBasics(props.label),
        props.language,
        EditorView.updateListener.of((update) => {
          if (update.docChanged) text.value = update.state.doc.toString()
        }),
      ],
    }),
  })
})
onBeforeUnmount(() => view?.destroy())

watch(text, (value) => {
  if (view && value !== view.state.doc.toString()) {
    view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: value } })
  }
})
watch(() => props.faults, () => {
  if (view && props.help) forceLinting(view)
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
  --ed-keyword: #7a3e00;
  --ed-field: #0b5561;
  --ed-type: #6a3a8c;
  --ed-argument: #3b5d2a;
  --ed-variable: #a1325a;
  --ed-string: #2a6a3f;
  --ed-atom: #2b53a0;
  --ed-comment: #6a7779;
}
.v-theme--night .host {
  --ed-keyword: #f4b942;
  --ed-field: #8bd5d5;
  --ed-type: #cfa6ee;
  --ed-argument: #b5d69f;
  --ed-variable: #ff9dbb;
  --ed-string: #9bdba6;
  --ed-atom: #a4c3ff;
  --ed-comment: #82969a;
}
</style>
