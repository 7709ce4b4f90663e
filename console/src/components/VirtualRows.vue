<script setup lang="ts" generic="T">
import { onBeforeUnmount, onMounted, ref, shallowRef, useTemplateRef, watch } from 'vue'

/** A long list of which only the rows in sight are drawn; they are asked for as they come into it. */
const props = defineProps<{ count: number; height: number; fetch: (from: number, to: number) => Promise<T[]>; version: unknown; label: string; role?: string }>()
defineSlots<{ row(props: { item: T; at: number }): unknown; head?(): unknown }>()

const host = useTemplateRef<HTMLElement>('host')
const from = ref(0)
const items = shallowRef<T[]>([])
const most = 900_000 // a browser draws no element that is much higher than that many rows of these
let asked = 0

async function look() {
  const box = host.value
  if (!box) return
  const first = Math.max(0, Math.floor(box.scrollTop / props.height) - 20)
  const last = Math.min(props.count, first + Math.ceil((box.clientHeight || 600) / props.height) + 40)
  const own = ++asked
  const got = await props.fetch(first, last).catch(() => [])
  if (own !== asked) return
  from.value = first
  items.value = got
}

function show(at: number) {
  const box = host.value
  if (!box) return
  const top = at * props.height
  if (top < box.scrollTop + 20 || top > box.scrollTop + box.clientHeight - 60) box.scrollTop = Math.max(0, top - box.clientHeight / 3)
}

defineExpose({ show, look })
const sized = new ResizeObserver(() => void look())
onMounted(() => {
  if (host.value) sized.observe(host.value)
  void look()
})
onBeforeUnmount(() => sized.disconnect())
watch(() => [props.count, props.version], () => void look())
</script>

<template>
  <div ref="host" class="rows" tabindex="0" :role="role" :aria-label="label" @scroll.passive="look">
    <slot name="head" />
    <div :style="{ height: `${Math.min(count, most) * height}px`, position: 'relative' }">
      <div :style="{ transform: `translateY(${from * height}px)` }">
        <template v-for="(item, i) in items" :key="from + i"><slot name="row" :item="item" :at="from + i" /></template>
      </div>
    </div>
  </div>
</template>

<style scoped>
.rows { height: 100%; overflow: auto; overflow-anchor: none; }
.rows:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -2px; }
</style>
