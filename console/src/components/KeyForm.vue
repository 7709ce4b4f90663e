<script setup lang="ts">
import { ref } from 'vue'
import { keepKey } from '../client'

/** Takes the key that the service wants. */
defineProps<{ known: boolean; wrong?: string }>()
const emit = defineEmits<{ close: [] }>()
const key = ref('')

function use(text: string) {
  keepKey(text.trim())
  window.location.reload() // everything is read anew, as who asks now
}
</script>

<template>
  <v-dialog :model-value="true" max-width="460" @update:model-value="emit('close')">
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
        <v-btn @click="emit('close')">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!key.trim()" data-test="use" @click="use(key)">Use it</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.about { margin-bottom: 14px; font-size: 13.5px; }
</style>
