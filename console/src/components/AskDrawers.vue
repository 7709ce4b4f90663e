<script setup lang="ts">
import { mdiCheckCircleOutline, mdiAlertCircleOutline } from '@mdi/js'
import { computed, defineAsyncComponent, ref, useTemplateRef, watch } from 'vue'
import { variableHelp } from '../editor/variables'
import { useAsk, type Past } from '../stores/ask'
import TextEditor from './TextEditor.vue'

const VariableForm = defineAsyncComponent(() => import('./VariableForm.vue'))
const FieldPicker = defineAsyncComponent(() => import('./FieldPicker.vue'))

/** What belongs to an operation, in drawers below it: closed they take one line. */
const ask = useAsk()
type Name = 'variables' | 'fields' | 'headers' | 'history'
const open = ref<Name | ''>((localStorage.getItem('osprey.drawer') as Name | null) ?? '')
const asForm = ref(localStorage.getItem('osprey.form') === 'on')

const given = computed(() => {
  try {
    return Object.keys((JSON.parse(ask.sheet.variables || '{}') as object) ?? {}).length
  } catch {
    return 0
  }
})
const wrong = computed(() => {
  const first = ask.variableProblems[0]
  return ask.variablesTrouble || (first ? `${first.variable ? `$${first.variable}: ` : ''}${first.message}` : '')
})
const help = variableHelp(() => ask.given(), () => ask.variableProblems)
const editor = useTemplateRef<InstanceType<typeof TextEditor>>('editor')
watch(() => ask.variableProblems, () => editor.value?.underlineAgain(), { flush: 'post' })
const headers = computed(() => ask.sheet.headers.split('\n').filter((l) => l.trim()).length)
const drawers = computed<{ name: Name; title: string; note: string; wrong?: boolean }[]>(() => [
  { name: 'variables', title: 'Variables', note: wrong.value ? '!' : given.value ? String(given.value) : '', wrong: wrong.value !== '' },
  { name: 'fields', title: 'Fields', note: '' },
  { name: 'headers', title: 'Headers', note: ask.headersTrouble ? '!' : headers.value ? String(headers.value) : '', wrong: ask.headersTrouble !== '' },
  { name: 'history', title: 'History', note: ask.past.length ? String(ask.past.length) : '' },
])

function turn(name: Name) {
  open.value = open.value === name ? '' : name
  localStorage.setItem('osprey.drawer', open.value)
}

/** Lays the variables out, if they can be read. */
function tidy() {
  if (!ask.variablesTrouble) ask.sheet.variables = JSON.stringify(JSON.parse(ask.sheet.variables || '{}'), null, 2)
}

function form(on: boolean) {
  asForm.value = on
  localStorage.setItem('osprey.form', on ? 'on' : 'off')
}

const clock = new Intl.DateTimeFormat(undefined, { month: 'short', day: 'numeric', hour: '2-digit', minute: '2-digit' })
const line = (p: Past) => p.operation.replace(/#[^\n]*/g, '').replace(/\s+/g, ' ').trim().slice(0, 140)
defineExpose({ turn })
</script>

<template>
  <div class="drawers" :class="{ open }">
    <div class="titles" role="tablist" aria-label="What belongs to the operation">
      <button v-for="d in drawers" :key="d.name" type="button" role="tab" :aria-selected="open === d.name" :class="{ on: open === d.name }" :data-test="`drawer-${d.name}`" @click="turn(d.name)">
        {{ d.title }}<span v-if="d.note" class="note" :class="{ wrong: d.wrong }">{{ d.note }}</span>
      </button>
      <template v-if="open === 'variables'">
        <span class="space" />
        <span v-if="wrong" class="trouble" :title="wrong" data-test="variables-wrong">{{ wrong }}</span>
        <label class="form"><input type="checkbox" :checked="asForm" data-test="as-form" @change="form(($event.target as HTMLInputElement).checked)" /> as a form</label>
      </template>
      <template v-else-if="open === 'headers' && ask.headersTrouble"><span class="space" /><span class="trouble">{{ ask.headersTrouble }}</span></template>
    </div>
    <div v-if="open" class="inside">
      <template v-if="open === 'variables'">
        <VariableForm v-if="asForm" />
        <TextEditor v-else :key="ask.sheet.id" ref="editor" v-model="ask.sheet.variables" label="Variables" :language="help" @run="ask.begin()" @tidy="tidy" />
      </template>
      <FieldPicker v-else-if="open === 'fields'" />
      <textarea v-else-if="open === 'headers'" v-model="ask.sheet.headers" class="headers" aria-label="Headers" spellcheck="false" placeholder="X-Request-Id: one header in each line" data-test="headers" />
      <div v-else class="past" role="list">
        <p v-if="!ask.past.length" class="none">What is asked is kept here, with what was answered.</p>
        <button v-for="p in ask.past" :key="p.at" type="button" role="listitem" class="entry" data-test="past" @click="ask.recall(p)">
          <v-icon :icon="p.ok ? mdiCheckCircleOutline : mdiAlertCircleOutline" size="14" :color="p.ok ? undefined : 'error'" />
          <span class="time">{{ clock.format(p.at) }}</span>
          <b>{{ p.name }}</b>
          <span class="text">{{ line(p) }}</span>
          <span class="time">{{ Math.round(p.millis) }} ms · {{ p.requests }} {{ p.requests === 1 ? 'request' : 'requests' }}</span>
        </button>
      </div>
    </div>
  </div>
</template>

<style scoped>
.drawers { flex: none; border-top: 1px solid var(--line); display: flex; flex-direction: column; }
.titles { min-width: 0; overflow: hidden; display: flex; align-items: center; height: 28px; flex: none; padding: 0 4px; gap: 2px; }
.titles > button { all: unset; cursor: pointer; padding: 0 8px; height: 100%; display: flex; align-items: center; gap: 5px; font-size: 12px; color: var(--quiet); }
.titles > .on { color: var(--ink); font-weight: 600; }
.titles > button:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.note { font-size: 11px; font-variant-numeric: tabular-nums; border: 1px solid var(--line); border-radius: 8px; padding: 0 5px; line-height: 14px; }
.wrong, .trouble { color: rgb(var(--v-theme-error)); }
.trouble { min-width: 0; font-size: 12px; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.space { flex: 1; }
.form { font-size: 12px; color: var(--quiet); padding-right: 8px; display: flex; gap: 4px; align-items: center; white-space: nowrap; }
.inside { height: 176px; border-top: 1px solid var(--line); overflow: auto; }
.headers { width: 100%; height: 100%; padding: 6px 12px; font-family: var(--mono); font-size: 12.5px; resize: none; border: 0; outline: 0; color: inherit; background: transparent; }
.headers:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.none { padding: 8px 12px; color: var(--quiet); font-size: 12.5px; }
.entry { all: unset; box-sizing: border-box; cursor: pointer; display: flex; gap: 8px; align-items: center; width: 100%; padding: 3px 12px; font-size: 12.5px; }
.entry:hover { background: color-mix(in srgb, var(--ink) 5%, transparent); }
.entry:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.time { color: var(--quiet); font-variant-numeric: tabular-nums; white-space: nowrap; font-size: 12px; }
.text { flex: 1; min-width: 0; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-family: var(--mono); font-size: 11.5px; color: var(--quiet); }
</style>
