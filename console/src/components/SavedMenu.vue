<script setup lang="ts">
import { mdiClose, mdiContentSaveOutline, mdiFileDocumentOutline } from '@mdi/js'
import { computed, onMounted, ref } from 'vue'
import { dropOperation, keepOperation, keptOperations, NoAnswer, savedOperations, type KeptOperation, type SavedOperation } from '../client'

/** Operations of the project, and those that people saved in the service's records. */
const props = defineProps<{ text: string; name: string }>()
const emit = defineEmits<{ open: [operation: SavedOperation] }>()

const project = ref<SavedOperation[]>([])
const kept = ref<KeptOperation[]>()
const asking = ref(false)
const name = ref('')
const trouble = ref('')
const there = computed(() => kept.value?.find((op) => op.name === name.value.trim()))

async function look() {
  project.value = await savedOperations().then((got) => got.operations).catch(() => [])
  kept.value = await keptOperations().catch(() => undefined)
}

function begin() {
  name.value = props.name
  trouble.value = ''
  asking.value = true
}

async function save() {
  try {
    await keepOperation(name.value.trim(), props.text, there.value?.version ?? 0)
    asking.value = false
  } catch (error) {
    trouble.value = error instanceof NoAnswer ? error.message : String(error)
  }
  await look()
}

async function drop(op: KeptOperation) {
  await dropOperation(op.name).catch(() => undefined)
  await look()
}

onMounted(look)
</script>

<template>
  <v-menu v-if="project.length || kept?.length" @update:model-value="(open) => open && look()">
    <template #activator="{ props: own }">
      <v-btn v-bind="own" :prepend-icon="mdiFileDocumentOutline" data-test="saved">Saved</v-btn>
    </template>
    <v-list density="compact" max-height="440">
      <template v-if="kept?.length">
        <v-list-subheader v-if="project.length">Saved here</v-list-subheader>
        <v-list-item v-for="op in kept" :key="op.name" :title="op.name" data-test="kept" @click="emit('open', op)">
          <template #append>
            <v-btn :icon="mdiClose" size="x-small" variant="text" :aria-label="`Remove ${op.name}`" :title="`Remove ${op.name}`" data-test="drop" @click.stop="drop(op)" />
          </template>
        </v-list-item>
      </template>
      <v-list-subheader v-if="project.length && kept?.length">In the project</v-list-subheader>
      <v-list-item v-for="op in project" :key="op.name" :title="op.name" @click="emit('open', op)" />
    </v-list>
  </v-menu>
  <v-btn v-if="kept" :prepend-icon="mdiContentSaveOutline" data-test="save" title="Save this operation for everybody" :disabled="!text.trim()" @click="begin">Save</v-btn>
  <v-dialog v-model="asking" max-width="420">
    <v-card title="Save this operation">
      <v-card-text>
        <v-text-field
          v-model="name" label="Name" autofocus variant="outlined" density="compact" data-test="name" :error-messages="trouble"
          :hint="there ? 'There is one of this name: it is replaced.' : ''" persistent-hint @keydown.enter="name.trim() && save()"
        />
      </v-card-text>
      <v-card-actions>
        <v-spacer />
        <v-btn @click="asking = false">Cancel</v-btn>
        <v-btn color="primary" variant="flat" :disabled="!name.trim()" data-test="keep" @click="save">{{ there ? 'Replace' : 'Save' }}</v-btn>
      </v-card-actions>
    </v-card>
  </v-dialog>
</template>
