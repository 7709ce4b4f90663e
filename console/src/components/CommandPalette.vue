<script setup lang="ts">
import { computed, nextTick, onMounted, ref, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'
import { askActions } from '../actions'
import { keptOperations, savedOperations, type SavedOperation } from '../client'
import { pages } from '../router'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'

/** Every page, type, operation and action, by a few letters. */
const emit = defineEmits<{ close: []; act: [name: string] }>()
const router = useRouter()
const ask = useAsk()
const types = useTypes()
const words = ref('')
const at = ref(0)
const saved = ref<SavedOperation[]>([])
const input = useTemplateRef<HTMLInputElement>('input')
const list = useTemplateRef<HTMLElement>('list')

interface Entry {
  title: string
  kind: string
  note?: string
  keys?: string
  go: () => void
}

onMounted(async () => {
  await nextTick()
  input.value?.focus()
  void types.need()
  const [project, kept] = await Promise.all([savedOperations().catch(() => undefined), keptOperations().catch(() => undefined)])
  saved.value = [...(kept ?? []), ...(project?.operations ?? [])]
})

const go = (to: string) => () => {
  emit('close')
  void router.push(to)
}

const all = computed<Entry[]>(() => [
  { title: 'Start', kind: 'page', note: 'What this project has, and what to do next', go: go('/start') },
  ...pages.map((p) => ({ title: p.title, kind: 'page', go: go(p.to) })),
  ...askActions.map((a) => ({ title: a.title, kind: 'action', keys: a.keys, go: () => emit('act', a.name) })),
  { title: 'Light or dark', kind: 'action', go: () => emit('act', 'theme') },
  { title: 'Keys of the console', kind: 'action', keys: '?', go: () => emit('act', 'keys') },
  ...saved.value.map((o) => ({
    title: o.name, kind: 'operation', note: o.text.replace(/#[^\n]*/g, '').replace(/\s+/g, ' ').trim().slice(0, 80),
    go: () => {
      ask.open(o.text)
      go('/')()
    },
  })),
  ...types.types.map((t) => ({ title: t.name, kind: t.kind.toLowerCase().replace('_', ' '), note: t.text, go: go(`/types/${t.name}`) })),
  ...(words.value.length > 1 ? types.types.flatMap((t) => (t.fields ?? []).map((f) => ({ title: `${t.name}.${f.name}`, kind: 'field', note: f.text, go: go(`/types/${t.name}.${f.name}`) }))) : []),
])

/** What has all of the words; titles that begin with them first. */
const found = computed(() => {
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  const worth = (e: Entry) => {
    const title = e.title.toLowerCase()
    if (!wanted.every((w) => title.includes(w) || e.kind.includes(w))) return 0
    return title === words.value.toLowerCase() ? 4 : title.startsWith(wanted[0] ?? '') ? 3 : e.kind === 'field' ? 1 : 2
  }
  return all.value.map((entry) => ({ entry, worth: worth(entry) })).filter((e) => e.worth > 0).sort((a, b) => b.worth - a.worth).map((e) => e.entry).slice(0, 60)
})

async function key(event: KeyboardEvent) {
  const by = { ArrowDown: 1, ArrowUp: -1 }[event.key]
  if (by !== undefined) {
    event.preventDefault()
    at.value = (at.value + by + found.value.length) % Math.max(1, found.value.length)
    await nextTick()
    list.value?.querySelector('[aria-selected=true]')?.scrollIntoView({ block: 'nearest' })
  } else if (event.key === 'Enter') {
    event.preventDefault()
    found.value[at.value]?.go()
  }
}
</script>

<template>
  <v-dialog :model-value="true" max-width="620" location="top" class="palette" aria-label="Go to" @update:model-value="emit('close')">
    <div class="box">
      <input
        ref="input" v-model="words" type="text" class="words" placeholder="A page, type, operation or action" aria-label="Go to" role="combobox" aria-expanded="true" aria-controls="palette-list"
        :aria-activedescendant="`palette-${at}`" data-test="palette-words" @input="at = 0" @keydown="key"
      />
      <div id="palette-list" ref="list" class="list" role="listbox" aria-label="Found">
        <button v-for="(e, i) in found" :id="`palette-${i}`" :key="e.kind + e.title" type="button" role="option" tabindex="-1" class="entry" :aria-selected="i === at" data-test="palette-entry" @mousemove="at = i" @click="e.go()">
          <span class="title">{{ e.title }}</span><span class="note">{{ e.note }}</span><kbd v-if="e.keys">{{ e.keys }}</kbd><span class="kind">{{ e.kind }}</span>
        </button>
        <p v-if="!found.length" class="none">Nothing has these letters.</p>
      </div>
    </div>
  </v-dialog>
</template>

<style scoped>
.box { background: rgb(var(--v-theme-surface)); border: 1px solid var(--line); border-radius: 6px; overflow: hidden; margin-top: 6vh; }
.words { all: unset; box-sizing: border-box; width: 100%; padding: 12px 16px; font-size: 15px; border-bottom: 1px solid var(--line); }
.list { max-height: 50vh; overflow: auto; padding: 4px 0; }
.entry { all: unset; box-sizing: border-box; width: 100%; display: flex; gap: 10px; align-items: baseline; padding: 4px 16px; cursor: pointer; font-size: 13px; }
.entry[aria-selected='true'] { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 12%, transparent); }
.title { font-weight: 600; white-space: nowrap; }
.note { flex: 1; min-width: 0; overflow: hidden; white-space: nowrap; text-overflow: ellipsis; color: var(--quiet); font-size: 12px; }
.kind { color: var(--quiet); font-size: 12px; }
kbd { font-family: inherit; font-size: 11px; border: 1px solid var(--line); border-radius: 3px; padding: 0 4px; color: var(--quiet); }
.none { padding: 6px 16px; color: var(--quiet); }
</style>
