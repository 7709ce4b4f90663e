<script setup lang="ts">
import { computed, ref } from 'vue'
import { keepOperation, NoAnswer, type KeptOperation } from '../client'

/** Saves an operation for everybody. */
const props = defineProps<{ text: string; name: string; kept: KeptOperation[] }>()
const emit = defineEmits<{ close: [] }>()
const name = ref(props.name)
const trouble = ref('')
const there = computed(() => props.kept.find((op) => op.name === name.value.trim()))

async function save() {
  try {
    await keepOperation(name.value.trim(), props.text, there.value?.version ?? 0)
    emit('close')
  } catch (error) {
    trouble.value = error instanceof NoAnswer ? error.message : String(error)
  }
}
</script>

<template>
  <v-dialog :model-value="true" max-width="420" @update:model-value="emit('close')">
    <v-card title="Save this operation">
      <v-card-text>
        <v-text-field
          v-model="name" label="Name" autofocus variant="outlined" density="compact" data-test="name" :error-messages="trouble"
          :hint="there ? 'There is one of this name: it is replaced.' : ''" persistent-hint @keydown.enter="name.trim() && save()"
        />
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn @click="emit('close')">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!name.trim()" data-test="keep" @click="save">{{ there ? 'Replace' : 'Save' }}</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
