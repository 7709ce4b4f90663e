<script setup lang="ts">
import { ref } from 'vue'

/** Asks for another name of a variable or fragment. */
const props = defineProps<{ was: string }>()
const emit = defineEmits<{ name: [to: string]; close: [] }>()
const name = ref(props.was)
const ok = (text: string) => /^[_A-Za-z]\w*$/.test(text)
</script>

<template>
  <v-dialog :model-value="true" max-width="380" @update:model-value="emit('close')">
    <v-card :title="`Rename ${was}`">
      <v-card-text>
        <v-text-field v-model="name" label="Name" autofocus variant="outlined" density="compact" data-test="rename" :error-messages="ok(name) ? '' : 'Letters, digits and _, and no digit in front'" @keydown.enter="ok(name) && emit('name', name)" />
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn @click="emit('close')">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!ok(name)" @click="emit('name', name)">Rename</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
