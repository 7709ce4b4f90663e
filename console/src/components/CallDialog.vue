<script setup lang="ts">
import { mdiContentCopy } from '@mdi/js'
import { onMounted, ref } from 'vue'
import { callIn, NoAnswer, type Question } from '../client'

/** A call of a program, to be copied. */
const props = defineProps<{ language: { name: string; title: string }; question: () => Question }>()
const emit = defineEmits<{ close: [] }>()
const text = ref('')
const said = ref('')

onMounted(async () => {
  try {
    text.value = await callIn(props.language.name, props.question())
  } catch (error) {
    said.value = error instanceof NoAnswer ? error.message : String(error)
  }
})

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
  <v-dialog :model-value="true" max-width="820" @update:model-value="emit('close')">
    <v-card :title="language.title" subtitle="It takes a key from the environment variable OSPREY_KEY, if there is one.">
      <v-card-text><pre class="text" tabindex="0" aria-label="The call" data-test="call-text">{{ text }}</pre></v-card-text>
      <v-card-actions>
        <span class="said" role="status">{{ said }}</span>
        <v-spacer />
        <v-btn @click="emit('close')">Close</v-btn>
        <v-btn v-if="text" color="primary" variant="flat" :prepend-icon="mdiContentCopy" data-test="call-copy" @click="copy">Copy</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.text { max-height: 60vh; overflow: auto; padding: 12px; font-size: 12.5px; border: 1px solid var(--line); border-radius: 4px; }
.said { padding-left: 12px; font-size: 13px; }
</style>
