<script setup lang="ts">
import { computed, onMounted } from 'vue'
import type { Variable } from '../editor/selection'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'

/** The variables of the operation as a form that is made of their types. */
const ask = useAsk()
const types = useTypes()
onMounted(() => void types.need())

const values = computed<Record<string, unknown>>(() => {
  try {
    return JSON.parse(ask.sheet.variables || '{}') as Record<string, unknown>
  } catch {
    return {}
  }
})

const bare = (v: Variable) => v.type.replace(/[[\]!]/g, '')
function kind(v: Variable): 'boolean' | 'enum' | 'number' | 'text' | 'json' {
  if (v.type.startsWith('[')) return 'json'
  const t = types.byName.get(bare(v))
  if (bare(v) === 'Boolean') return 'boolean'
  if (t?.kind === 'ENUM') return 'enum'
  if (bare(v) === 'Int' || bare(v) === 'Float') return 'number'
  return t?.kind === 'INPUT_OBJECT' ? 'json' : 'text'
}
const choices = (v: Variable) => types.byName.get(bare(v))?.values?.map((e) => e.name) ?? []

function put(name: string, value: unknown) {
  const next = { ...values.value }
  if (value === undefined) delete next[name]
  else next[name] = value
  ask.sheet.variables = JSON.stringify(next, null, 2)
}

function typed(v: Variable, text: string) {
  if (text === '') put(v.name, undefined)
  else if (kind(v) === 'number') put(v.name, Number.isNaN(Number(text)) ? text : Number(text))
  else if (kind(v) === 'boolean') put(v.name, text === 'true')
  else if (kind(v) === 'json') {
    try {
      put(v.name, JSON.parse(text))
    } catch {
      put(v.name, text) // until it is whole
    }
  } else put(v.name, text)
}

const shown = (v: Variable) => {
  const value = values.value[v.name]
  return value === undefined ? '' : typeof value === 'object' ? JSON.stringify(value) : String(value)
}
const lacks = (v: Variable) => v.type.endsWith('!') && v.fallback === undefined && values.value[v.name] === undefined
</script>

<template>
  <div class="form" data-test="variable-form">
    <p v-if="!ask.asked?.variables.length" class="none">This operation has no variables. Write them behind its name: query Board($limit: Int)</p>
    <label v-for="v in ask.asked?.variables" :key="v.name" class="line" :class="{ lacks: lacks(v) }">
      <span class="name">{{ v.name }}</span>
      <span class="type">{{ v.type }}</span>
      <select v-if="kind(v) === 'boolean' || kind(v) === 'enum'" :value="shown(v)" :data-test="`variable-${v.name}`" @change="typed(v, ($event.target as HTMLSelectElement).value)">
        <option value="">{{ v.fallback ?? '' }}</option>
        <option v-for="c in kind(v) === 'enum' ? choices(v) : ['true', 'false']" :key="c" :value="c">{{ c }}</option>
      </select>
      <input v-else :value="shown(v)" :inputmode="kind(v) === 'number' ? 'decimal' : undefined" :placeholder="v.fallback" :data-test="`variable-${v.name}`" @change="typed(v, ($event.target as HTMLInputElement).value)" />
      <span v-if="lacks(v)" class="wrong">is required</span>
    </label>
  </div>
</template>

<style scoped>
.form { padding: 6px 12px; display: grid; gap: 4px; align-content: start; }
.none { color: var(--quiet); font-size: 12.5px; }
.line { display: grid; grid-template-columns: minmax(80px, 140px) minmax(80px, 160px) minmax(120px, 1fr) auto; gap: 10px; align-items: center; font-size: 12.5px; }
.name { font-family: var(--mono); overflow: hidden; text-overflow: ellipsis; }
.type { color: var(--quiet); font-family: var(--mono); font-size: 11.5px; overflow: hidden; text-overflow: ellipsis; }
input, select { border: 1px solid var(--line); border-radius: 4px; height: 24px; padding: 0 6px; background: rgb(var(--v-theme-surface)); color: inherit; font-size: 12.5px; min-width: 0; }
input:focus-visible, select:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
.lacks input, .lacks select { border-color: rgb(var(--v-theme-error)); }
.wrong { color: rgb(var(--v-theme-error)); font-size: 12px; }
</style>
