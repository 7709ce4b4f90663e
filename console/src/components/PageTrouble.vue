<script setup lang="ts">
import { computed } from 'vue'
import { hasKey } from '../client'
import type { Trouble } from '../trouble'

/** Why a page cannot show what it is for, and what to do: in place of it, or, where it shows what it knew before, as a bar above that. */
const props = defineProps<{ trouble: Trouble; bar?: boolean }>()
const title = computed(() => {
  switch (props.trouble.status) {
    case 403:
      return 'This page is for those who run the service'
    case 404:
      return 'There is nothing to show yet'
    default:
      return 'This cannot be told now'
  }
})
/** What the title says need not be said again. */
const text = computed(() => (props.trouble.status === 403 ? (props.trouble.text.split(' → ')[1] ?? props.trouble.text) : props.trouble.text))
const wrong = computed(() => props.trouble.status !== 403 && props.trouble.status !== 404)
</script>

<template>
  <div v-if="bar" class="bar" role="alert"><b>Not as of now.</b> {{ trouble.text }}</div>
  <div v-else class="trouble" role="alert">
    <h1 :class="{ wrong }">{{ title }}</h1>
    <p>{{ text }}</p>
    <p v-if="trouble.status === 403">{{ hasKey() ? 'The key that you use is none of theirs.' : '' }} <router-link to="/help/access">Who runs the service</router-link></p>
    <p v-else-if="trouble.status === 404"><router-link to="/help/records">Records</router-link> <router-link to="/start">What to do next</router-link></p>
    <p v-else class="quiet">It is tried again by itself. What is asked is answered meanwhile, as far as its stores answer.</p>
  </div>
</template>

<style scoped>
.trouble { padding: 18px 24px; max-width: 760px; grid-column: 1 / -1; }
.bar { padding: 4px 16px; border-bottom: 1px solid rgb(var(--v-theme-error)); background: color-mix(in srgb, rgb(var(--v-theme-error)) 8%, rgb(var(--v-theme-surface))); }
h1 { font-size: 16px; font-weight: 600; margin: 0 0 4px; }
p { margin: 2px 0; display: flex; flex-wrap: wrap; gap: 2px 14px; overflow-wrap: anywhere; }
.wrong { color: rgb(var(--v-theme-error)); }
.quiet { color: var(--quiet); }
a { color: rgb(var(--v-theme-primary)); }
</style>
