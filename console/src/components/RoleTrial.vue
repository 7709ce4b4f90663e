<script setup lang="ts">
import { computed, onMounted, ref, shallowRef, watch } from 'vue'
import { askAs, NoAnswer, savedOperations } from '../client'
import { needsNothing } from '../editor/selection'
import LinesBeside from './LinesBeside.vue'

/** One operation, as you are answered and as a holder of a role is. */
const props = defineProps<{ role: string }>()
const operations = shallowRef<{ name: string; text: string }[]>([])
const name = ref('')
const own = ref('')
const theirs = ref('')
const problem = ref('')
const running = ref(false)

const current = computed(() => operations.value.find((o) => o.name === name.value))

async function look() {
  const op = current.value
  if (!op) return
  running.value = true
  problem.value = ''
  try {
    ;[own.value, theirs.value] = await Promise.all([askAs({ query: op.text }), askAs({ query: op.text }, props.role)])
  } catch (error) {
    problem.value = error instanceof NoAnswer ? error.message : String(error)
  } finally {
    running.value = false
  }
}

onMounted(async () => {
  const got = await savedOperations().catch(() => undefined)
  operations.value = [...(got?.operations.filter((o) => needsNothing(o.text)) ?? []), ...(got?.first ? [{ name: 'first', text: got.first }] : [])]
  name.value = operations.value[0]?.name ?? ''
})
watch([current, () => props.role], look)
</script>

<template>
  <div class="trial" data-test="trial">
    <p class="line">
      <label>Operation <select v-model="name" aria-label="Operation" data-test="trial-operation"><option v-for="o in operations" :key="o.name" :value="o.name">{{ o.name }}</option></select></label>
      <span class="quiet">{{ running ? 'Asking …' : own && own === theirs ? 'Both are answered the same.' : own ? 'Left as you are answered, right as they are.' : '' }}</span>
    </p>
    <p v-if="problem" class="wrong" role="alert">{{ problem }}</p>
    <LinesBeside v-else-if="own" class="both" :left="own" :right="theirs" label="The answers, side by side" />
  </div>
</template>

<style scoped>
.trial { padding: 4px 16px 12px; }
.line { display: flex; flex-wrap: wrap; gap: 4px 16px; align-items: center; margin: 4px 0 8px; font-size: 12.5px; }
.quiet { color: var(--quiet); }
.wrong { color: rgb(var(--v-theme-error)); }
.both { border: 1px solid var(--line); border-radius: 4px; max-height: 46vh; }
</style>
