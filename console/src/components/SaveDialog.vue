<script setup lang="ts">
import { computed, ref } from 'vue'
import { keepInProject, keepOperation, NoAnswer, type KeptOperation, type ProjectOperation } from '../client'

/** Saves an operation for everybody: in a file of the project where that is followed, or in the records. */
const props = defineProps<{ text: string; name: string; kept?: KeptOperation[]; project: ProjectOperation[]; writable: boolean }>()
const emit = defineEmits<{ close: [] }>()
const name = ref(props.name)
const trouble = ref('')
const where = ref<'project' | 'records'>(props.writable ? 'project' : 'records')
const before = computed(() => props.kept?.find((op) => op.name === name.value.trim()))
const own = computed(() => props.project.find((op) => op.name === name.value.trim()))
const there = computed(() => (where.value === 'project' ? own.value : before.value))

async function save() {
  try {
    if (where.value === 'project') await keepInProject(name.value.trim(), props.text, own.value)
    else await keepOperation(name.value.trim(), props.text, before.value?.version ?? 0)
    emit('close')
  } catch (error) {
    trouble.value = error instanceof NoAnswer ? error.message : String(error)
  }
}
</script>

<template>
  <v-dialog :model-value="true" max-width="440" @update:model-value="emit('close')">
    <v-card title="Save this operation">
      <v-card-text>
        <v-text-field
          v-model="name" label="Name" autofocus variant="outlined" density="compact" data-test="name" :error-messages="trouble"
          :hint="there ? 'There is one of this name: it is replaced.' : ''" persistent-hint @keydown.enter="name.trim() && save()" @update:model-value="trouble = ''"
        />
        <fieldset v-if="writable && kept" class="where">
          <legend>Where</legend>
          <label><input v-model="where" type="radio" value="project" data-test="in-project" /> in the project: <code>operations/{{ name.trim() || '…' }}.graphql</code></label>
          <label><input v-model="where" type="radio" value="records" data-test="in-records" /> in the records of the service</label>
        </fieldset>
        <p v-else-if="writable" class="where">It is written to <code>operations/{{ name.trim() || '…' }}.graphql</code> of the project.</p>
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn @click="emit('close')">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!name.trim()" data-test="keep" @click="save">{{ there ? 'Replace' : 'Save' }}</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.where { border: 0; padding: 0; margin: 8px 0 0; display: grid; gap: 4px; font-size: 12.5px; overflow-wrap: anywhere; }
legend { color: var(--quiet); padding: 0; }
code { font-family: var(--mono); font-size: 12px; }
</style>
