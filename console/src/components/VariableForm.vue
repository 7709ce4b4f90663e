<script setup lang="ts">
import { computed, onMounted, ref } from 'vue'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'

/** The variables of the operation as a form that is made of their types; input objects unfold. */
const ask = useAsk()
const types = useTypes()
onMounted(() => void types.need())

interface Row {
  path: string[]
  key: string
  type: string
  fallback?: string
  about?: string
  kind: 'boolean' | 'enum' | 'number' | 'text' | 'json' | 'object'
}

const values = computed<Record<string, unknown>>(() => {
  try {
    return (JSON.parse(ask.sheet.variables || '{}') as Record<string, unknown> | null) ?? {}
  } catch {
    return {}
  }
})

const bare = (type: string) => type.replace(/[[\]!]/g, '')
function kindOf(type: string): Row['kind'] {
  if (type.startsWith('[')) return 'json'
  const t = types.byName.get(bare(type))
  if (bare(type) === 'Boolean') return 'boolean'
  if (t?.kind === 'ENUM') return 'enum'
  if (t?.kind === 'INPUT_OBJECT') return 'object'
  return bare(type) === 'Int' || bare(type) === 'Float' ? 'number' : 'text'
}
const choices = (type: string) => types.byName.get(bare(type))?.values?.map((e) => e.name) ?? []

/** Input objects whose fields are shown: those that were opened, or have a value. */
const opened = ref(new Set<string>())
const isOpen = (row: Row) => opened.value.has(row.key) || (typeof at(row.path) === 'object' && at(row.path) !== null)

const rows = computed<Row[]>(() => {
  const list: Row[] = []
  const add = (path: string[], type: string, fallback?: string, about?: string) => {
    const row: Row = { path, key: path.join('.'), type, fallback, about, kind: kindOf(type) }
    list.push(row)
    if (row.kind === 'object' && isOpen(row)) for (const f of types.byName.get(bare(type))?.fields ?? []) add([...path, f.name], f.type, f.default, f.text)
  }
  for (const v of ask.asked?.variables ?? []) add([v.name], v.type, v.fallback)
  return list
})

function at(path: string[]): unknown {
  let value: unknown = values.value
  for (const name of path) value = (value as Record<string, unknown> | undefined)?.[name]
  return value
}

/** Writes a value, or takes it away; an object in which nothing is left goes, too. */
function put(path: string[], value: unknown) {
  const change = (of: unknown, [name = '', ...rest]: string[]): Record<string, unknown> | undefined => {
    const next = { ...(of as Record<string, unknown> | undefined) }
    const own = rest.length ? change(next[name], rest) : value
    if (own === undefined) delete next[name]
    else next[name] = own
    return Object.keys(next).length ? next : undefined
  }
  ask.sheet.variables = JSON.stringify(change(values.value, path) ?? {}, null, 2)
}

function typed(row: Row, text: string) {
  if (text === '') put(row.path, undefined)
  else if (row.kind === 'number') put(row.path, Number.isNaN(Number(text)) ? text : Number(text))
  else if (row.kind === 'boolean') put(row.path, text === 'true')
  else if (row.kind === 'json') {
    try {
      put(row.path, JSON.parse(text))
    } catch {
      put(row.path, text) // until it is whole
    }
  } else put(row.path, text)
}

function turn(row: Row) {
  const open = isOpen(row)
  const next = new Set(opened.value)
  if (open) {
    next.delete(row.key)
    put(row.path, undefined)
  } else next.add(row.key)
  opened.value = next
}

const shown = (row: Row) => {
  const value = at(row.path)
  return value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value)
}
/** What is wrong is told at the variable, of which it may be a part. */
const wrong = (row: Row) => (row.path.length === 1 ? ask.variableProblems.filter((p) => p.variable === row.key).map((p) => (p.fix ? `${p.message} → ${p.fix}` : p.message)).join('; ') : '')
</script>

<template>
  <div class="form" data-test="variable-form">
    <p v-if="!ask.asked?.variables.length" class="none">This operation has no variables. Write them behind its name: query Board($limit: Int)</p>
    <div v-for="row in rows" :key="row.key" class="line" :class="{ lacks: wrong(row) }">
      <label class="name" :style="{ paddingLeft: `${(row.path.length - 1) * 16}px` }" :for="`variable ${row.key}`" :title="row.about">{{ row.path.at(-1) }}</label>
      <span class="type">{{ row.type }}</span>
      <button v-if="row.kind === 'object'" :id="`variable ${row.key}`" type="button" class="plain link" :aria-expanded="isOpen(row)" :data-test="`variable-${row.key}`" @click="turn(row)">{{ isOpen(row) ? 'leave it out' : 'write its fields' }}</button>
      <select v-else-if="row.kind === 'boolean' || row.kind === 'enum'" :id="`variable ${row.key}`" :value="shown(row)" :data-test="`variable-${row.key}`" @change="typed(row, ($event.target as HTMLSelectElement).value)">
        <option value="">{{ row.fallback ?? '' }}</option>
        <option v-for="c in row.kind === 'enum' ? choices(row.type) : ['true', 'false']" :key="c" :value="c">{{ c }}</option>
      </select>
      <input v-else :id="`variable ${row.key}`" :value="shown(row)" :inputmode="row.kind === 'number' ? 'decimal' : undefined" :placeholder="row.fallback ?? (row.kind === 'json' ? '[ ]' : undefined)" :data-test="`variable-${row.key}`" @change="typed(row, ($event.target as HTMLInputElement).value)" />
      <span v-if="wrong(row)" class="wrong" :title="wrong(row)">{{ wrong(row) }}</span>
    </div>
  </div>
</template>

<style scoped>
.form { padding: 6px 12px; display: grid; gap: 4px; align-content: start; }
.none { color: var(--quiet); font-size: 12.5px; }
.line { display: grid; grid-template-columns: minmax(80px, 150px) minmax(70px, 130px) minmax(110px, 1fr) fit-content(45%); gap: 10px; align-items: center; font-size: 12.5px; }
.name { font-family: var(--mono); overflow: hidden; text-overflow: ellipsis; }
.type { color: var(--quiet); font-family: var(--mono); font-size: 11.5px; overflow: hidden; text-overflow: ellipsis; }
input, select { border: 1px solid var(--line); border-radius: 4px; height: 24px; padding: 0 6px; background: rgb(var(--v-theme-surface)); color: inherit; font-size: 12.5px; min-width: 0; }
input:focus-visible, select:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
.link { color: rgb(var(--v-theme-primary)); }
.lacks input, .lacks select { border-color: rgb(var(--v-theme-error)); }
.wrong { color: rgb(var(--v-theme-error)); font-size: 12px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
</style>
