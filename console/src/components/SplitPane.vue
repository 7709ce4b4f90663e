<script setup lang="ts">
import { computed, onBeforeUnmount, ref, useTemplateRef } from 'vue'

/** Two panes with a divider that is dragged, or moved with the arrow keys, and kept where it was left. */
const props = defineProps<{ name: string; label: string; start?: number; least?: number; narrow: boolean }>()

const key = `osprey.split.${props.name}`
const least = props.least ?? 20
const share = ref(Math.min(100 - least, Math.max(least, Number(localStorage.getItem(key)) || props.start || 50)))
const host = useTemplateRef<HTMLElement>('host')
const dragged = ref(false)
const style = computed(() => (props.narrow ? {} : { gridTemplateColumns: `minmax(0, ${share.value}fr) 7px minmax(0, ${100 - share.value}fr)` }))

function to(percent: number) {
  share.value = Math.round(10 * Math.min(100 - least, Math.max(least, percent))) / 10
  localStorage.setItem(key, String(share.value))
}

function move(event: PointerEvent) {
  const box = host.value?.getBoundingClientRect()
  if (box) to(((event.clientX - box.left) / box.width) * 100)
}

function drag(event: PointerEvent) {
  event.preventDefault()
  dragged.value = true
  window.addEventListener('pointermove', move)
  window.addEventListener('pointerup', drop, { once: true })
}

function drop() {
  dragged.value = false
  window.removeEventListener('pointermove', move)
}

function step(event: KeyboardEvent) {
  const by = { ArrowLeft: -2, ArrowRight: 2, Home: -100, End: 100 }[event.key]
  if (by === undefined) return
  event.preventDefault()
  to(share.value + by)
}

onBeforeUnmount(drop)
</script>

<template>
  <div ref="host" class="split" :class="{ narrow, dragged }" :style="style">
    <div class="side"><slot name="left" /></div>
    <div
      v-if="!narrow" class="divider" role="separator" tabindex="0" aria-orientation="vertical" :aria-label="label" :aria-valuenow="Math.round(share)" :aria-valuemin="least"
      :aria-valuemax="100 - least" :data-test="`divide-${name}`" title="Drag, or move with the arrow keys; a double click puts it back" @pointerdown="drag" @keydown="step" @dblclick="to(start ?? 50)"
    />
    <div class="side"><slot name="right" /></div>
  </div>
</template>

<style scoped>
.split { display: grid; height: 100%; min-height: 0; }
.narrow { grid-template-rows: auto auto; height: auto; }
.side { min-width: 0; min-height: 0; display: flex; flex-direction: column; }
.divider { cursor: col-resize; position: relative; }
.divider::after { content: ''; position: absolute; inset: 0 3px; background: var(--line); transition: background 0.1s; }
.divider:hover::after, .divider:focus-visible::after, .dragged .divider::after { background: rgb(var(--v-theme-primary)); }
.divider:focus-visible { outline: none; }
.dragged { user-select: none; }
</style>
