<script setup lang="ts">
import { mdiClose, mdiContentSaveOutline, mdiFileDocumentOutline } from '@mdi/js'
import { defineAsyncComponent, onMounted, ref } from 'vue'
import { dropFromProject, dropOperation, keptOperations, NoAnswer, savedOperations, type KeptOperation, type ProjectOperation, type SavedOperation } from '../client'

const SaveDialog = defineAsyncComponent(() => import('./SaveDialog.vue'))

/** Operations of the project, and those that people saved in the service's records. */
defineProps<{ text: string; name: string }>()
const emit = defineEmits<{ open: [operation: SavedOperation] }>()

const project = ref<ProjectOperation[]>([])
const writable = ref(false)
const kept = ref<KeptOperation[]>()
const asking = ref(false)
/** Of the project, the one whose file is about to be removed, and why it was not. */
const sure = ref('')
const trouble = ref('')
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

async function dropFile(op: ProjectOperation) {
  sure.value = ''
  try {
    await dropFromProject(op)
  } catch (error) {
    trouble.value = error instanceof NoAnswer ? error.message : String(error)
  }
  await look()
}

function open(shown: boolean) {
  sure.value = trouble.value = ''
  if (shown) void look()
}

onMounted(look)
</script>

<template>
  <v-menu v-if="project.length || kept?.length" @update:model-value="open">
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
      <p v-if="trouble" class="wrong" role="alert">{{ trouble }}</p>
      <v-list-item v-for="op in project" :key="op.name" :title="op.name" :subtitle="sure === op.name ? 'Its file goes from the project.' : undefined" data-test="of-project" @click="emit('open', op)">
        <template v-if="writable" #append>
          <v-btn v-if="sure === op.name" size="small" color="error" variant="tonal" data-test="drop-sure" @click.stop="dropFile(op)">Remove</v-btn>
          <v-btn v-else :icon="mdiClose" size="x-small" variant="text" :aria-label="`Remove ${op.name} from the project`" :title="`Remove ${op.name} from the project`" data-test="drop-file" @click.stop="(sure = op.name), (trouble = '')" />
        </template>
      </v-list-item>
    </v-list>
  </v-menu>
  <v-btn v-if="kept || writable" :prepend-icon="mdiContentSaveOutline" data-test="save" title="Save this operation for everybody" :disabled="!text.trim()" @click="asking = true">Save</v-btn>
  <SaveDialog v-if="asking" :text="text" :name="name" :kept="kept" :project="project" :writable="writable" @close="(asking = false), look()" />
</template>

<style scoped>
.wrong { color: rgb(var(--v-theme-error)); font-size: 12.5px; padding: 2px 16px; max-width: 340px; }
</style>
