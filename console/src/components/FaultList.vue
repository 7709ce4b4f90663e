<script setup lang="ts">
import { mdiAlertCircleOutline } from '@mdi/js'
import { computed } from 'vue'
import type { Fault } from '../client'

const props = defineProps<{ faults: Fault[] }>()
const emit = defineEmits<{ show: [at: { line: number; column: number }] }>()

const pathText = (path: (string | number)[]) =>
  path.map((p, i) => (typeof p === 'number' ? `[${p}]` : i ? `.${p}` : p)).join('')

// Errors that differ in nothing but their path are told once, with how many places.
const together = computed(() => {
  const known = new Map<string, { fault: Fault; more: number }>()
  for (const fault of props.faults) {
    const key = JSON.stringify([fault.message, fault.extensions?.code, fault.locations, fault.path ? '' : known.size])
    const more = fault.extensions?.more ?? 0
    const first = known.get(key)
    if (first) first.more += 1 + more
    else known.set(key, { fault, more })
  }
  return [...known.values()]
})
</script>

<template>
  <ul class="faults" aria-label="Errors">
    <li v-for="({ fault: f, more }, i) in together" :key="i" data-test="fault">
      <v-icon :icon="mdiAlertCircleOutline" size="small" color="error" />
      <div>
        <div>{{ f.message }}</div>
        <div class="detail">
          <button v-if="f.locations?.[0]" type="button" @click="emit('show', f.locations[0])">
            line {{ f.locations[0].line }}, column {{ f.locations[0].column }}
          </button>
          <span v-if="f.path" class="mono">{{ pathText(f.path) }}<template v-if="more"> and {{ more }} more places</template></span>
          <router-link v-if="f.extensions?.code" :to="{ path: '/help/errors', hash: '#' + f.extensions.code.toLowerCase() }" title="What it means, and what to do">{{ f.extensions.code }}</router-link>
          <span v-if="f.extensions?.fix">→ {{ f.extensions.fix }}</span>
        </div>
      </div>
    </li>
  </ul>
</template>

<style scoped>
.faults { list-style: none; margin: 0; padding: 0 12px 8px; overflow: auto; flex: 0 1 auto; }
li > div { min-width: 0; overflow-wrap: anywhere; }
li { display: flex; gap: 8px; padding: 3px 0; font-size: 13px; }
.detail { display: flex; flex-wrap: wrap; gap: 0 12px; font-size: 12px; color: var(--quiet); }
.detail button { all: unset; cursor: pointer; text-decoration: underline; color: rgb(var(--v-theme-primary)); }
.detail a { color: rgb(var(--v-theme-primary)); }
.detail button:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
</style>
