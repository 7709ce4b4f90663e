<script setup lang="ts">
import { mdiClose, mdiContentSaveOutline, mdiFileDocumentOutline } from '@mdi/js'
import { defineAsyncComponent, onMounted, ref } from 'vue'
import { dropOperation, keptOperations, savedOperations, type KeptOperation, type ProjectOperation, type SavedOperation } from '../client'

const SaveDialog = defineAsyncComponent(() => import('./SaveDialog.vue'))

/** Operations of the project, and those that people saved in the service's records. */
defineProps<{ text: string; name: string }>()
const emit = defineEmits<{ open: [operation: SavedOperation] }>()

const project = ref<ProjectOperation[]>([])
const writable = ref(false)
const kept = ref<KeptOperation[]>()
const asking = ref(false)
async function look() {
  const got = await savedOperations().catch(() => undefined)
  project.value = got?.operations ?? []
  writable.value = got?.writable ?? false
  kept.value = await keptOperations().catch(() => undefined)
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
  <v-btn v-if="kept || writable" :prepend-icon="mdiContentSaveOutline" data-test="save" title="Save this operation for everybody" :disabled="!text.trim()" @click="asking = true">Save</v-btn>
  <SaveDialog v-if="asking" :text="text" :name="name" :kept="kept" :project="project" :writable="writable" @close="(asking = false), look()" />
</template>
