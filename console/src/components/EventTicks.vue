<script setup lang="ts">
import { computed, onBeforeUnmount, onMounted, ref, useTemplateRef } from 'vue'
import type { Told } from '../stores/ask'

/** What was told, on an axis of time from when it began until now; a click chooses what is nearest. */
const props = defineProps<{ events: Told[]; chosen?: Told; running: boolean }>()
const emit = defineEmits<{ choose: [event: Told] }>()

const axis = useTemplateRef<HTMLElement>('axis')
const now = ref(Date.now())
let timer = 0
onMounted(() => (timer = window.setInterval(() => props.running && (now.value = Date.now()), 1000)))
onBeforeUnmount(() => window.clearInterval(timer))

const from = computed(() => props.events.at(-1)?.at.getTime() ?? now.value)
const to = computed(() => Math.max(now.value, (props.events[0]?.at.getTime() ?? 0) + 1000, from.value + 10_000))
const share = (event: Told) => ((event.at.getTime() - from.value) / (to.value - from.value)) * 100
const clock = new Intl.DateTimeFormat(undefined, { hour: '2-digit', minute: '2-digit', second: '2-digit' })

function nearest(event: MouseEvent) {
  const box = axis.value?.getBoundingClientRect()
  if (!box || !props.events.length) return
  const at = from.value + ((event.clientX - box.left) / box.width) * (to.value - from.value)
  emit('choose', props.events.reduce((best, e) => (Math.abs(e.at.getTime() - at) < Math.abs(best.at.getTime() - at) ? e : best)))
}
</script>

<template>
  <div class="ticks" data-test="event-ticks">
    <span class="time">{{ clock.format(from) }}</span>
    <div ref="axis" class="axis" role="img" :aria-label="`${events.length} told since ${clock.format(from)}; the list has each`" @click="nearest">
      <i v-for="e in events" :key="e.number" :class="{ chosen: e === chosen, failed: e.answer.errors }" :style="{ left: `${share(e)}%` }" />
    </div>
    <span class="time">{{ running ? 'now' : clock.format(to) }}</span>
  </div>
</template>

<style scoped>
.ticks { display: flex; align-items: center; gap: 8px; height: 22px; padding: 0 12px; border-top: 1px solid var(--line); font-size: 11px; color: var(--quiet); font-variant-numeric: tabular-nums; }
.axis { position: relative; flex: 1; height: 14px; border-bottom: 1px solid var(--line); cursor: pointer; }
i { position: absolute; bottom: 0; width: 2px; height: 8px; margin-left: -1px; background: var(--quiet); }
i.failed { background: rgb(var(--v-theme-error)); }
i.chosen { height: 14px; width: 4px; margin-left: -2px; background: rgb(var(--v-theme-primary)); }
</style>
