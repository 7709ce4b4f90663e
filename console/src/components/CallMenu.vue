<script setup lang="ts">
import { mdiCodeTags, mdiContentCopy } from '@mdi/js'
import { ref } from 'vue'
import { callIn, NoAnswer, type Question } from '../client'

/** The operation as a call of a program. */
const props = defineProps<{ question: () => Question; disabled: boolean }>()

const languages = [
  { name: 'curl', title: 'Shell, with curl' },
  { name: 'python', title: 'Python' },
  { name: 'javascript', title: 'JavaScript' },
  { name: 'go', title: 'Go' },
]
const shown = ref(false)
const title = ref('')
const text = ref('')
const said = ref('')

async function show(language: { name: string; title: string }) {
  title.value = language.title
  said.value = ''
  try {
    text.value = await callIn(language.name, props.question())
  } catch (error) {
    text.value = ''
    said.value = error instanceof NoAnswer ? error.message : String(error)
  }
  shown.value = true
}

async function copy() {
  try {
    await navigator.clipboard.writeText(text.value)
    said.value = 'Copied.'
  } catch {
    said.value = 'The browser does not let this page copy: select the text.'
  }
}
</script>

<template>
  <v-menu>
    <template #activator="{ props: own }">
      <v-btn v-bind="own" :icon="mdiCodeTags" size="x-small" :disabled="disabled" data-test="call" aria-label="As a call of a program" title="This operation, as a program sends it" />
    </template>
    <v-list density="compact">
      <v-list-item v-for="l in languages" :key="l.name" :title="l.title" :data-test="`call-${l.name}`" @click="show(l)" />
    </v-list>
  </v-menu>
  <v-dialog v-model="shown" max-width="820">
    <v-card :title="title" subtitle="It takes a key from the environment variable OSPREY_KEY, if there is one.">
      <v-card-text><pre class="text" tabindex="0" data-test="call-text">{{ text }}</pre></v-card-text>
      <v-card-actions>
        <span class="said" role="status">{{ said }}</span>
        <v-spacer />
        <v-btn @click="shown = false">Close</v-btn>
        <v-btn v-if="text" color="primary" variant="flat" :prepend-icon="mdiContentCopy" data-test="call-copy" @click="copy">Copy</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.text { max-height: 60vh; overflow: auto; padding: 12px; font-size: 0.82rem; border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); border-radius: 4px; }
.said { padding-left: 12px; font-size: 0.88rem; }
</style>
