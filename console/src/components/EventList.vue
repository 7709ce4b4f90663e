<script setup lang="ts">
import type { Told } from '../stores/ask'

/** What a subscription or a live query has told, the newest first. */
defineProps<{ events: Told[]; chosen?: Told; waiting: number }>()
const emit = defineEmits<{ choose: [event: Told] }>()

const clock = new Intl.DateTimeFormat(undefined, { hour: '2-digit', minute: '2-digit', second: '2-digit' })

/** The first values of an answer, on one line. */
function head(value: unknown, left = 4): string {
  if (value === null) return 'null'
  if (typeof value !== 'object') return String(value)
  const parts: string[] = []
  for (const inner of Object.values(value as Record<string, unknown>)) {
    if (parts.length === left) break
    const text = inner === null ? '' : head(inner, left - parts.length)
    if (text) parts.push(text)
  }
  return parts.join(' · ')
}

function asked(event: Told): string {
  const calls = event.answer.extensions?.calls ?? []
  const n = calls.reduce((sum, c) => sum + c.requests, 0)
  return `${n} ${n === 1 ? 'request' : 'requests'}`
}
</script>

<template>
  <div class="list" role="listbox" aria-label="What was told" data-test="events">
    <div v-if="waiting" class="waiting" data-test="waiting">{{ waiting }} more {{ waiting === 1 ? 'waits' : 'wait' }}</div>
    <div v-else-if="!events.length" class="waiting">Nothing has happened yet.</div>
    <button
      v-for="event in events" :key="event.number" type="button" role="option" class="event" :aria-selected="event === chosen" :class="{ chosen: event === chosen, failed: event.answer.errors }"
      data-test="event" @click="emit('choose', event)"
    >
      <span class="time">{{ clock.format(event.at) }}</span>
      <span class="head">{{ event.answer.errors ? event.answer.errors[0]?.message : head(event.answer.data) }}</span>
      <span class="asked">{{ asked(event) }}</span>
    </button>
  </div>
</template>

<style scoped>
.list { height: 100%; overflow: auto; border-right: 1px solid var(--line); }
.waiting { padding: 5px 12px; font-size: 0.8rem; opacity: 0.75; }
.event {
  all: unset; box-sizing: border-box; cursor: pointer; display: flex; gap: 10px; align-items: baseline; width: 100%; padding: 3px 12px;
  font-size: 0.8rem; border-left: 3px solid transparent;
}
.event:hover { background: rgba(var(--v-theme-on-surface), 0.05); }
.event:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
.chosen { border-left-color: rgb(var(--v-theme-primary)); background: rgba(var(--v-theme-primary), 0.08); }
.time { font-variant-numeric: tabular-nums; opacity: 0.7; flex: none; }
.head { flex: 1; min-width: 0; white-space: nowrap; overflow: hidden; text-overflow: ellipsis; }
.asked { flex: none; opacity: 0.65; font-size: 0.74rem; }
.failed .head { color: rgb(var(--v-theme-error)); }
</style>
