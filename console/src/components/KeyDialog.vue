<script setup lang="ts">
import { mdiKeyOutline } from '@mdi/js'
import { onMounted, ref } from 'vue'
import { hasKey, keepKey, onRefused } from '../client'

/** Asks for the key that the service wants, when it does not know who asks. */
const open = ref(false)
const known = ref(hasKey())
const key = ref('')
const wrong = ref<string>()
let asked = false // for another key, once: whoever closes the dialog has seen it

onMounted(() =>
  onRefused((why) => {
    wrong.value = why === 'elsewhere' ? 'The console is not for this caller.' : hasKey() ? 'The key that this tab has is not taken.' : undefined
    open.value ||= why === 'unknown' || !asked
    asked = true
  }),
)

function use(text: string) {
  keepKey(text.trim())
  window.location.reload() // everything is read anew, as who asks now
}
</script>

<template>
  <v-btn v-if="known" :icon="mdiKeyOutline" size="small" aria-label="Another key" title="Another key" data-test="other-key" @click="open = true" />
  <v-dialog v-model="open" max-width="460">
    <v-card title="Who asks?">
      <v-card-text>
        <p class="about">This service answers callers that it knows. Give the key or token that you were given; it is kept until this tab is closed.</p>
        <v-text-field
          v-model="key" label="Key" type="password" autocomplete="off" autofocus variant="outlined" density="compact" data-test="key"
          :error-messages="wrong" @keydown.enter="key.trim() && use(key)"
        />
      </v-card-text>
      <v-card-actions>
        <v-btn v-if="known" data-test="forget" @click="use('')">Forget it</v-btn>
        <v-spacer />
        <v-btn @click="open = false">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!key.trim()" data-test="use" @click="use(key)">Use it</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.about { margin-bottom: 14px; font-size: 0.9rem; }
</style>
