<script setup lang="ts">
/** What the keyboard does. */
const emit = defineEmits<{ close: [] }>()
const parts = [
  { title: 'Everywhere', keys: [['Ctrl K', 'go to a page, type, operation, or do something'], ['?', 'this list'], ['Tab', 'the next thing; Escape closes what is in front']] },
  {
    title: 'The operation',
    keys: [['Ctrl Enter', 'run it'], ['Ctrl Space', 'what can be written here'], ['Ctrl .', 'do what the message here says'], ['Shift Alt F', 'format'], ['F2', 'rename a variable or fragment'], ['Ctrl click', 'go to where a name is defined'], ['Ctrl Shift [ and ]', 'fold and unfold']],
  },
  { title: 'The answer', keys: [['↑ ↓', 'move'], ['→ ←', 'open and fold; with Shift all that is inside'], ['Ctrl C', 'copy the value'], ['Enter in the search', 'the next; with Shift the one before']] },
  { title: 'Dividers and tabs', keys: [['← →', 'move a divider, or go to the next tab'], ['Home End', 'move a divider as far as it goes']] },
]
</script>

<template>
  <v-dialog :model-value="true" max-width="640" @update:model-value="emit('close')">
    <v-card title="Keys" data-test="key-list">
      <v-card-text class="parts">
        <section v-for="p in parts" :key="p.title">
          <h3>{{ p.title }}</h3>
          <dl><template v-for="[key, what] in p.keys" :key="key"><dt><kbd>{{ key }}</kbd></dt><dd>{{ what }}</dd></template></dl>
        </section>
        <p class="quiet">On a Mac, Cmd does what Ctrl does.</p>
      </v-card-text>
      <v-card-actions><v-spacer /><v-btn autofocus @click="emit('close')">Close</v-btn></v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.parts { display: grid; grid-template-columns: repeat(auto-fit, minmax(250px, 1fr)); gap: 4px 28px; font-size: 13px; }
h3 { font-size: 13px; margin: 8px 0 4px; }
dl { display: grid; grid-template-columns: max-content 1fr; gap: 3px 12px; margin: 0; }
dd { margin: 0; }
kbd { font-family: inherit; font-size: 12px; border: 1px solid var(--line); border-radius: 3px; padding: 0 5px; white-space: nowrap; }
.quiet { color: var(--quiet); grid-column: 1 / -1; margin-top: 8px; }
</style>
