<script setup lang="ts">
import { computed, onMounted, reactive, ref } from 'vue'
import { NoAnswer, tidied, type TypeField } from '../client'
import { places } from '../editor/selection'
import { sourceColour } from '../sources'
import { useAsk } from '../stores/ask'
import { useTypes } from '../stores/types'

/** The fields that there are, as a tree: what is marked in it is in the text, and the other way round. */
const ask = useAsk()
const types = useTypes()
onMounted(() => void types.need())

const opened = reactive(new Set<string>())
const words = ref('')

interface Line {
  place: string
  depth: number
  field: TypeField
  composite: boolean
  chosen: boolean
}

const root = computed(() => types.types.find((t) => t.root === (ask.asked?.kind ?? 'query')))
const chosen = computed(() => new Map(places(ask.known, ask.chosenName).map((p) => [p.place, p])))

const fieldsOf = (name: string): TypeField[] => types.byName.get(name)?.fields ?? []
const isComposite = (f: TypeField) => ['OBJECT', 'INTERFACE', 'UNION'].includes(types.byName.get(f.of)?.kind ?? '')

const lines = computed<Line[]>(() => {
  const list: Line[] = []
  const wanted = words.value.toLowerCase()
  const add = (fields: TypeField[], at: string, depth: number) => {
    for (const f of fields) {
      const place = at ? `${at}.${f.name}` : f.name
      const composite = isComposite(f)
      if (depth === 0 && wanted && !f.name.toLowerCase().includes(wanted) && !f.text?.toLowerCase().includes(wanted)) continue
      list.push({ place, depth, field: f, composite, chosen: chosen.value.has(place) })
      if (composite && opened.has(place)) add(fieldsOf(f.of), place, depth + 1)
    }
  }
  if (root.value) add(root.value.fields ?? [], '', 0)
  return list
})

/** What is written for a field that is chosen: with a field of its own where it needs some, and arguments that must be given. */
function written(f: TypeField): string {
  const args = (f.args ?? []).filter((a) => a.type.endsWith('!') && a.default === undefined)
  const given = args.length ? `(${args.map((a) => `${a.name}: ${sample(a)}`).join(', ')})` : ''
  if (!isComposite(f)) return f.name + given
  const leaf = fieldsOf(f.of).find((inner) => !isComposite(inner) && !(inner.args ?? []).some((a) => a.type.endsWith('!') && a.default === undefined))
  return `${f.name}${given} { ${leaf?.name ?? '__typename'} }`
}

function sample(f: TypeField): string {
  if (f.many) return '[]'
  const t = types.byName.get(f.of)
  if (t?.kind === 'ENUM') return t.values?.[0]?.name ?? 'null'
  if (t?.kind === 'INPUT_OBJECT') return `{${(t.fields ?? []).filter((i) => i.type.endsWith('!') && i.default === undefined).map((i) => `${i.name}: ${sample(i)}`).join(', ')}}`
  if (f.of === 'Int' || f.of === 'Float') return '1'
  return f.of === 'Boolean' ? 'true' : '""'
}

async function pick(line: Line) {
  const text = ask.sheet.operation
  const own = chosen.value.get(line.place)
  let next: string
  if (own) {
    const parent = chosen.value.get(line.place.slice(0, Math.max(0, line.place.lastIndexOf('.'))))
    const inside = parent?.inside ?? ask.asked?.inside
    const alone = inside && text.slice(inside.from, own.from).trim() === '' && text.slice(own.end, inside.to).trim() === ''
    next = text.slice(0, own.from) + (alone ? '__typename' : '') + text.slice(own.end)
  } else {
    const parts = line.place.split('.')
    // What stands above it is written with it, as far as it is not there.
    let above = parts.length - 1
    while (above > 0 && !chosen.value.has(parts.slice(0, above).join('.'))) above--
    let addition = ''
    for (let i = parts.length; i > above; i--) {
      const f = lines.value.find((l) => l.place === parts.slice(0, i).join('.'))?.field
      if (!f) return
      addition = i === parts.length ? written(f) : written(f).replace(/\{[^{}]*\}$/, `{ ${addition} }`)
    }
    const parent = above > 0 ? chosen.value.get(parts.slice(0, above).join('.')) : undefined
    const inside = above > 0 ? parent?.inside : ask.asked?.inside
    if (inside) next = `${text.slice(0, inside.to).trimEnd()}\n${addition}\n${text.slice(inside.to)}`
    else if (parent) next = `${text.slice(0, parent.end)} { ${addition} }${text.slice(parent.end)}`
    else next = `${text.trimEnd()}\n{ ${addition} }\n`.trimStart()
  }
  ask.sheet.operation = await tidied(next).catch((error) => (error instanceof NoAnswer ? next : next))
  if (!own && line.composite) opened.add(line.place)
}

function turn(line: Line) {
  if (opened.has(line.place)) opened.delete(line.place)
  else opened.add(line.place)
}
</script>

<template>
  <div class="picker" data-test="fields">
    <input v-model="words" type="search" placeholder="Search the fields" aria-label="Search the fields" class="words" />
    <p v-if="types.problem" class="none">{{ types.problem }}</p>
    <ul role="tree" aria-label="Fields">
      <li v-for="l in lines" :key="l.place" role="treeitem" :aria-level="l.depth + 1" :aria-expanded="l.composite ? opened.has(l.place) : undefined" :aria-selected="l.chosen" :style="{ paddingLeft: `${l.depth * 18}px` }">
        <button v-if="l.composite" type="button" class="turn" :aria-label="`${opened.has(l.place) ? 'Fold' : 'Open'} ${l.place}`" @click="turn(l)">{{ opened.has(l.place) ? '▾' : '▸' }}</button>
        <span v-else class="turn" />
        <label :title="[l.field.text, l.field.where].filter(Boolean).join(' — ')">
          <input type="checkbox" :checked="l.chosen" :data-test="`pick-${l.place}`" @change="pick(l)" />
          <span class="from" :style="{ background: l.field.source ? sourceColour(l.field.source.split(', ')[0] ?? '') : 'transparent' }" />
          <span class="name" :class="{ gone: l.field.deprecated !== undefined }">{{ l.field.name }}</span>
          <span class="type">{{ l.field.type }}</span>
          <span class="text">{{ l.field.text }}</span>
        </label>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.picker { padding: 4px 8px 0; font-size: 12.5px; height: 100%; display: flex; flex-direction: column; }
.words { width: 100%; height: 24px; border: 1px solid var(--line); border-radius: 4px; padding: 0 8px; margin-bottom: 4px; color: inherit; background: transparent; flex: none; }
.words:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
.none { color: rgb(var(--v-theme-error)); }
ul { list-style: none; margin: 0; padding: 0 0 8px; overflow: auto; flex: 1; min-height: 0; }
li { display: flex; align-items: center; height: 22px; }
.turn { all: unset; width: 18px; text-align: center; cursor: pointer; color: var(--quiet); flex: none; }
.turn:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
label { display: flex; gap: 6px; align-items: center; min-width: 0; cursor: pointer; }
.from { width: 3px; height: 14px; flex: none; }
.name { font-family: var(--mono); }
.gone { text-decoration: line-through; }
.type { font-family: var(--mono); font-size: 11.5px; color: var(--quiet); white-space: nowrap; }
.text { color: var(--quiet); overflow: hidden; white-space: nowrap; text-overflow: ellipsis; }
</style>
