<script setup lang="ts">
import { mdiCodeTags } from '@mdi/js'
import { defineAsyncComponent, ref } from 'vue'
import type { Question } from '../client'

const CallDialog = defineAsyncComponent(() => import('./CallDialog.vue'))

/** The operation as a call of a program. */
defineProps<{ question: () => Question; disabled: boolean }>()

const languages = [
  { name: 'curl', title: 'Shell, with curl' },
  { name: 'python', title: 'Python' },
  { name: 'javascript', title: 'JavaScript' },
  { name: 'go', title: 'Go' },
]
const chosen = ref<{ name: string; title: string }>()
</script>

<template>
  <v-menu>
    <template #activator="{ props: own }">
      <v-btn v-bind="own" :icon="mdiCodeTags" size="x-small" :disabled="disabled" data-test="call" aria-label="As a call of a program" title="This operation, as a program sends it" />
    </template>
    <v-list density="compact">
      <v-list-item v-for="l in languages" :key="l.name" :title="l.title" :data-test="`call-${l.name}`" @click="chosen = l" />
    </v-list>
  </v-menu>
  <CallDialog v-if="chosen" :language="chosen" :question="question" @close="chosen = undefined" />
</template>
