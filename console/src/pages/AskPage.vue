<script setup lang="ts">
import { json } from '@codemirror/lang-json'
import { mdiMapMarkerPath, mdiPause, mdiPlay, mdiStop } from '@mdi/js'
import { computed, ref, useTemplateRef } from 'vue'
import type { SavedOperation } from '../client'
import CallMenu from '../components/CallMenu.vue'
import EventList from '../components/EventList.vue'
import FaultList from '../components/FaultList.vue'
import SavedMenu from '../components/SavedMenu.vue'
import TextEditor from '../components/TextEditor.vue'
import ValueTree from '../components/ValueTree.vue'
import WaveStrip from '../components/WaveStrip.vue'
import { operationMode } from '../editor/mode'
import { useAsk } from '../stores/ask'

const ask = useAsk()
const editor = useTemplateRef<InstanceType<typeof TextEditor>>('editor')
const view = ref<'tree' | 'raw'>('tree')

const raw = computed({ get: () => (ask.answer ? JSON.stringify(ask.answer.data ?? null, null, 2) : ''), set: () => undefined })
const size = computed(() => (ask.bytes > 2048 ? `${(ask.bytes / 1024).toFixed(1)} KB` : `${ask.bytes} B`))
const hasData = computed(() => ask.answer !== undefined && 'data' in ask.answer)

function open(op: SavedOperation) {
  ask.stop()
  ask.events = undefined
  ask.operation = op.text
  ask.answer = undefined
  ask.plan = undefined
}
</script>

<template>
  <div class="sheet">
    <div class="bar">
      <v-btn v-if="!ask.running" variant="flat" color="primary" :prepend-icon="mdiPlay" data-test="run" title="Ctrl-Enter or Cmd-Enter" @click="ask.run()">{{ ask.isSubscription ? 'Follow' : 'Run' }}</v-btn>
      <v-btn v-else variant="flat" color="error" :prepend-icon="mdiStop" data-test="stop" @click="ask.stop()">Stop</v-btn>
      <v-btn variant="tonal" :prepend-icon="mdiMapMarkerPath" data-test="plan" title="Which stores would be asked, without asking them" @click="ask.planOnly()">Plan</v-btn>
      <v-select
        v-if="ask.names.length > 1" v-model="ask.operationName" :items="ask.names" :placeholder="ask.names[0]" density="compact" variant="outlined"
        hide-details class="which" aria-label="Operation to run"
      />
      <SavedMenu :text="ask.operation" :name="ask.names[0] ?? ''" @open="open" />
      <CallMenu :question="ask.question" :disabled="!ask.operation.trim() || ask.variablesTrouble !== ''" />
      <v-checkbox
        v-if="!ask.isSubscription" v-model="ask.live" label="Live" density="compact" hide-details class="live" data-test="live"
        title="Answer it again whenever something that it has read has changed"
      />
      <v-btn v-if="ask.events && ask.running" variant="tonal" :prepend-icon="ask.paused ? mdiPlay : mdiPause" data-test="pause" @click="ask.pause()">{{ ask.paused ? 'Go on' : 'Pause' }}</v-btn>
      <v-spacer />
      <span v-if="ask.events" class="figures" data-test="told">{{ ask.events.length + ask.waiting.length }} told</span>
      <v-progress-circular v-if="ask.running" indeterminate size="18" width="2" />
      <span v-else-if="ask.answer && !ask.events" class="figures" data-test="figures">{{ Math.round(ask.millis) }} ms<template v-if="ask.bytes"> · {{ size }}</template></span>
    </div>

    <v-card class="pane operation" flat border>
      <div class="title"><span class="pane-title">Operation</span></div>
      <div class="body"><TextEditor ref="editor" v-model="ask.operation" label="Operation" help :language="operationMode" :faults="ask.faults" @run="ask.run()" /></div>
    </v-card>
    <v-card class="pane variables" flat border>
      <div class="title">
        <span class="pane-title">Variables</span>
        <span v-if="ask.variablesTrouble" class="trouble">{{ ask.variablesTrouble }}</span>
      </div>
      <div class="body"><TextEditor v-model="ask.variables" label="Variables" :language="json()" @run="ask.run()" /></div>
    </v-card>

    <v-card class="pane answer" flat border>
      <div class="title">
        <span class="pane-title">Answer</span>
        <v-spacer />
        <v-btn-toggle v-model="view" density="compact" mandatory class="views">
          <v-btn value="tree" size="x-small">Tree</v-btn>
          <v-btn value="raw" size="x-small" data-test="raw">Raw</v-btn>
        </v-btn-toggle>
      </div>
      <div v-if="ask.trouble" class="message" data-test="trouble">{{ ask.trouble }}</div>
      <FaultList v-if="ask.faults.length" :class="{ above: hasData }" :faults="ask.faults" @show="editor?.goTo($event)" />
      <div v-if="hasData || ask.events" class="body" :class="{ told: ask.events }" data-test="answer">
        <EventList v-if="ask.events" :events="ask.events" :chosen="ask.chosen" :waiting="ask.waiting.length" @choose="ask.choose" />
        <div v-if="view === 'tree'" class="tree"><ValueTree v-if="hasData" :key="ask.chosen?.number" :value="ask.answer?.data" /></div>
        <TextEditor v-else v-model="raw" label="Answer" :language="json()" readonly />
      </div>
      <div v-else-if="!ask.trouble && !ask.faults.length" class="message">
        {{ ask.plan ? 'Nothing was run: the waves below are what the operation would ask.' : 'The answer appears here.' }}
      </div>
    </v-card>

    <v-card class="pane waves" flat border><WaveStrip :calls="ask.calls" :plan="ask.plan" /></v-card>
  </div>
</template>

<style scoped>
.sheet {
  display: grid; height: 100%; padding: 8px 12px 12px; gap: 8px;
  grid-template: auto minmax(120px, 5fr) minmax(120px, 5fr) auto / minmax(0, 3fr) minmax(0, 1.25fr);
  grid-template-areas: 'bar bar' 'operation variables' 'answer answer' 'waves waves';
}
.bar { grid-area: bar; display: flex; align-items: center; gap: 8px; }
.operation { grid-area: operation; }
.variables { grid-area: variables; }
.answer { grid-area: answer; }
.waves { grid-area: waves; }
.pane { display: flex; flex-direction: column; min-height: 0; min-width: 0; }
.title { display: flex; align-items: center; gap: 12px; padding: 4px 12px; min-height: 30px; flex: none; }
.body { flex: 1; min-height: 0; overflow: hidden; }
.told { display: grid; grid-template-columns: minmax(0, 2fr) minmax(0, 3fr); }
.live { flex: none; height: 28px; margin-top: -12px; }
.above { max-height: 40%; }
.tree { height: 100%; overflow: auto; padding: 0 12px 8px; }
.message { padding: 8px 12px; opacity: 0.75; font-size: 0.9rem; }
.trouble { color: rgb(var(--v-theme-error)); font-size: 0.78rem; }
.figures { font-size: 0.82rem; font-variant-numeric: tabular-nums; opacity: 0.8; }
.which { max-width: 220px; }
.views { height: 24px; }

@media (max-width: 760px) {
  .sheet {
    height: auto; min-height: 100%;
    grid-template: auto 300px 120px minmax(300px, auto) auto / minmax(0, 1fr);
    grid-template-areas: 'bar' 'operation' 'variables' 'answer' 'waves';
  }
}
</style>
