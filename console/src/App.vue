<script setup lang="ts">
import { mdiThemeLightDark } from '@mdi/js'
import { computed, onBeforeUnmount, onMounted, ref } from 'vue'
import { useTheme } from 'vuetify'
import { follow, readiness, type Now } from './client'
import KeyDialog from './components/KeyDialog.vue'
import { keepTheme } from './theme'

const theme = useTheme()
const state = ref<{ ok: boolean; text: string }>()
const now = ref<Now>()
let timer = 0
let stop = () => {}

const trouble = computed(() => now.value?.files)
const records = computed(() => [now.value?.records?.revision, now.value?.records?.problem].filter((text) => text !== undefined))
const revision = computed(() => now.value?.revision)
const about = computed(() => {
  const r = revision.value
  if (!r) return ''
  const how = { files: 'from the files of the service', published: `published by ${r.by}`, restored: `restored by ${r.by}` }[r.origin]
  return `${how}, ${new Date(r.at).toLocaleString()}${r.note ? `: ${r.note}` : ''}`
})

function otherTheme() {
  const next = theme.global.name.value === 'night' ? 'harbour' : 'night'
  theme.change(next)
  keepTheme(next)
}

/** Looks which stores answer. */
async function look() {
  try {
    const r = await readiness()
    const down = Object.entries(r.sources).filter(([, s]) => !s.ready).map(([name, s]) => `${name} ${s.problem ?? 'does not answer'}`)
    state.value = { ok: r.ready, text: r.ready ? 'all sources answer' : down.join('; ') }
  } catch {
    state.value = { ok: false, text: 'the service does not answer' }
  }
}

onMounted(() => {
  void look()
  timer = window.setInterval(look, 15_000)
  stop = follow((told) => {
    if (now.value && told.serial !== now.value.serial) void look()
    now.value = told
  })
})
onBeforeUnmount(() => {
  window.clearInterval(timer)
  stop()
})
</script>

<template>
  <v-app>
    <v-app-bar density="compact" flat border :height="44">
      <img src="/osprey.svg" alt="" class="logo" />
      <span class="product">Osprey</span>
      <nav class="pages">
        <router-link to="/" class="page" exact-active-class="here">Ask</router-link>
        <router-link to="/help" class="page" active-class="here" data-test="help">Help</router-link>
      </nav>
      <v-spacer />
      <span v-if="revision" class="state" :title="about" data-test="revision">revision {{ revision.number }}</span>
      <span v-if="state" class="state" data-test="state"><span class="dot" :class="{ ok: state.ok }" />{{ state.text }}</span>
      <KeyDialog />
      <v-btn :icon="mdiThemeLightDark" size="small" aria-label="Light or dark" title="Light or dark" data-test="theme" @click="otherTheme" />
    </v-app-bar>
    <v-main class="main">
      <div v-if="trouble" class="trouble" role="alert" data-test="trouble">
        <b>Not served yet.</b>
        <code v-if="trouble.place">{{ trouble.place }}</code>
        <span>{{ trouble.problem }}<template v-if="trouble.fix"> → {{ trouble.fix }}</template></span>
        <span v-if="trouble.more" class="more">and {{ trouble.more }} more</span>
      </div>
      <div v-for="text in records" :key="text" class="trouble" role="alert" data-test="records"><b>Records.</b><span>{{ text }}</span></div>
      <router-view v-slot="{ Component }"><keep-alive include="AskPage"><component :is="Component" /></keep-alive></router-view>
    </v-main>
  </v-app>
</template>

<style scoped>
.main { height: 100vh; overflow: auto; }
.logo { width: 24px; margin-left: 14px; }
.product { font-weight: 700; margin: 0 20px 0 8px; letter-spacing: 0.01em; }
.page { text-decoration: none; color: inherit; font-weight: 600; font-size: 0.9rem; padding: 4px 10px; border-bottom: 2px solid transparent; }
.page.here { color: rgb(var(--v-theme-primary)); border-color: currentColor; }
.state { font-size: 0.8rem; opacity: 0.85; margin-right: 10px; display: flex; align-items: center; gap: 6px; }
.dot { width: 9px; height: 9px; border-radius: 50%; background: rgb(var(--v-theme-error)); }
.trouble { display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: baseline; padding: 6px 14px; font-size: 0.85rem; border-bottom: 1px solid; border-color: rgb(var(--v-theme-error)); background: rgba(var(--v-theme-error), 0.08); }
.trouble code { font-size: 0.8rem; }
.trouble .more { opacity: 0.75; }
.dot.ok { background: rgb(var(--v-theme-success)); }
</style>
