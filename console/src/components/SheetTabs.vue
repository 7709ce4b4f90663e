<script setup lang="ts">
import { mdiClose, mdiPlus } from '@mdi/js'
import { useAsk } from '../stores/ask'

/** The operations under work. */
const ask = useAsk()

function key(event: KeyboardEvent) {
  const by = { ArrowLeft: -1, ArrowRight: 1 }[event.key]
  if (by === undefined) return
  const i = ask.sheets.findIndex((s) => s.id === ask.active) + by
  const next = ask.sheets[(i + ask.sheets.length) % ask.sheets.length]
  if (next) ask.active = next.id
  window.setTimeout(() => document.querySelector<HTMLElement>('.tab[aria-selected=true]')?.focus())
}
</script>

<template>
  <div class="tabs">
    <div role="tablist" aria-label="Operations" class="list" @keydown="key">
      <div v-for="s in ask.sheets" :key="s.id" class="one" :class="{ on: s.id === ask.sheet.id }">
        <button type="button" role="tab" class="tab" :aria-selected="s.id === ask.sheet.id" :tabindex="s.id === ask.sheet.id ? 0 : -1" data-test="sheet" @click="ask.active = s.id">{{ ask.nameOf(s) }}</button>
        <button v-if="ask.sheets.length > 1" type="button" class="close" :aria-label="`Close ${ask.nameOf(s)}`" data-test="close-sheet" @click="ask.close(s.id)"><v-icon :icon="mdiClose" size="13" /></button>
      </div>
    </div>
    <button type="button" class="add" aria-label="Another operation" title="Another operation" data-test="add-sheet" @click="ask.add('')"><v-icon :icon="mdiPlus" size="17" /></button>
  </div>
</template>

<style scoped>
.tabs { display: flex; align-items: stretch; height: 30px; flex: none; background: rgb(var(--v-theme-background)); border-bottom: 1px solid var(--line); }
.list { display: flex; overflow-x: auto; scrollbar-width: none; }
.one { display: flex; align-items: center; border-right: 1px solid var(--line); max-width: 220px; }
.on { background: rgb(var(--v-theme-surface)); margin-bottom: -1px; }
.tab { all: unset; cursor: pointer; padding: 0 6px 0 12px; line-height: 29px; min-width: 0; font-size: 12.5px; color: var(--quiet); white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.on .tab { color: var(--ink); font-weight: 600; }
.close, .add { all: unset; cursor: pointer; color: var(--quiet); padding: 3px; margin-right: 4px; display: flex; border-radius: 3px; }
.add { margin: 0; padding: 0 9px; align-items: center; }
.close:hover, .add:hover { color: var(--ink); }
.tab:focus-visible, .close:focus-visible, .add:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.tab:only-child { padding-right: 12px; }
</style>
