<script setup lang="ts">
import { mdiKeyOutline } from '@mdi/js'
import { defineAsyncComponent, onMounted, ref } from 'vue'
import { hasKey, onRefused } from '../client'

const KeyForm = defineAsyncComponent(() => import('./KeyForm.vue'))

/** Asks for the key that the service wants, when it does not know who asks. */
const open = ref(false)
const known = ref(hasKey())
const wrong = ref<string>()
let asked = false // for another key, once: whoever closes the dialog has seen it

onMounted(() =>
  onRefused((why) => {
    wrong.value = why === 'elsewhere' ? 'The console is not for this caller.' : hasKey() ? 'The key that this tab has is not taken.' : undefined
    open.value ||= why === 'unknown' || !asked
    asked = true
  }),
)
</script>

<template>
  <v-btn v-if="known" :icon="mdiKeyOutline" size="small" aria-label="Another key" title="Another key" data-test="other-key" @click="open = true" />
  <KeyForm v-if="open" :known="known" :wrong="wrong" @close="open = false" />
</template>
