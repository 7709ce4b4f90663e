<script setup lang="ts">
import { computed, ref } from 'vue'

const props = defineProps<{ value: unknown; name?: string | number; depth?: number }>()

const depth = computed(() => props.depth ?? 0)
const isList = computed(() => Array.isArray(props.value))
const isBranch = computed(() => props.value !== null && typeof props.value === 'object')
const entries = computed(() => (isBranch.value ? Object.entries(props.value as Record<string, unknown>) : []))
const open = ref(depth.value < 2 || (Array.isArray(props.value) ? props.value.length <= 3 : true))
const most = ref(50)

const kind = computed(() => (props.value === null ? 'null' : typeof props.value))
const head = computed(() => {
  if (isList.value) return `${entries.value.length} ${entries.value.length === 1 ? 'item' : 'items'}`
  const first = entries.value.find(([, v]) => typeof v === 'string' || typeof v === 'number')
  return open.value || !first ? '' : `${first[0]} ${String(first[1])} …`
})
const shown = computed(() => (props.value === null ? 'null' : String(props.value)))
</script>

<template>
  <div v-if="isBranch" class="branch">
    <button v-if="name !== undefined" type="button" class="name" :aria-expanded="open" @click="open = !open">
      <span class="mark">{{ open ? '▾' : '▸' }}</span>{{ name }} <span class="head">{{ head }}</span>
    </button>
    <div v-if="open || name === undefined" :class="{ inside: name !== undefined }">
      <ValueTree v-for="[key, v] in entries.slice(0, most)" :key="key" :name="isList ? Number(key) + 1 : key" :value="v" :depth="depth + 1" />
      <button v-if="entries.length > most" type="button" class="more" @click="most += 200">show more ({{ entries.length - most }} left)</button>
    </div>
  </div>
  <div v-else class="leaf"><span class="label">{{ name }}</span> <span :class="kind">{{ shown }}</span></div>
</template>

<style scoped>
.branch, .leaf { font-family: var(--mono); font-size: 12.5px; line-height: 1.55; }
.inside { padding-left: 18px; border-left: 1px solid rgba(var(--v-theme-on-surface), 0.12); margin-left: 5px; }
.name { all: unset; cursor: pointer; color: rgb(var(--v-theme-primary)); }
.name:focus-visible, .more:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); border-radius: 3px; }
.mark { display: inline-block; width: 14px; opacity: 0.7; }
.head { opacity: 0.6; color: rgb(var(--v-theme-on-surface)); }
.label { padding-left: 14px; opacity: 0.72; }
.number, .boolean { color: rgb(var(--v-theme-info)); }
.null { opacity: 0.5; font-style: italic; }
.more { all: unset; cursor: pointer; padding-left: 14px; text-decoration: underline; opacity: 0.8; }
</style>
