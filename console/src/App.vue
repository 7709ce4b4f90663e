<script setup lang="ts">
import { mdiMagnify, mdiThemeLightDark } from '@mdi/js'
import { computed, defineAsyncComponent, onBeforeUnmount, onMounted, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { useTheme } from 'vuetify'
import { act } from './actions'
import { follow, lookAs, looksAs, readiness, type Now } from './client'
import KeyDialog from './components/KeyDialog.vue'
import { pages } from './router'
import { knowSources } from './sources'
import { useTypes } from './stores/types'
import { keepTheme } from './theme'

const CommandPalette = defineAsyncComponent(() => import('./components/CommandPalette.vue'))
const KeyList = defineAsyncComponent(() => import('./components/KeyList.vue'))

const theme = useTheme()
const router = useRouter()
const route = useRoute()
const types = useTypes()
const state = ref<{ ok: boolean; text: string }>()
const now = ref<Now>()
const as = looksAs()
const palette = ref(false)
const keys = ref(false)
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

function stopLooking() {
  lookAs(null)
  window.location.reload()
}

/** Looks which stores answer. */
async function look() {
  try {
    const r = await readiness()
    knowSources(Object.keys(r.sources))
    const down = Object.entries(r.sources).filter(([, s]) => !s.ready).map(([name, s]) => `${name} ${s.problem ?? 'does not answer'}`)
    state.value = { ok: r.ready, text: r.ready ? 'all sources answer' : down.join('; ') }
  } catch {
    state.value = { ok: false, text: 'the service does not answer' }
  }
}

function pressed(event: KeyboardEvent) {
  if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
    event.preventDefault()
    palette.value = true
    return
  }
  const target = event.target as HTMLElement
  const writes = target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName)
  if (event.key === '?' && !writes) keys.value = true
}

/** Does what was chosen in the palette: an action of the console, or one of the Ask page, which is opened for it. */
async function chosen(name: string) {
  palette.value = false
  if (name === 'theme') otherTheme()
  else if (name === 'keys') keys.value = true
  else {
    await router.push('/')
    window.setTimeout(() => act(name))
  }
}

function hear() {
  stop = follow((told) => {
    if (now.value && told.serial !== now.value.serial) void look()
    now.value = told
    types.served(told.serial)
  })
}

onMounted(() => {
  void look()
  timer = window.setInterval(look, 15_000)
  window.addEventListener('keydown', pressed)
  hear()
  // A page that is left may be kept by the browser, and its connection with it.
  window.addEventListener('pagehide', () => stop())
  window.addEventListener('pageshow', (event) => event.persisted && hear())
})
onBeforeUnmount(() => {
  window.clearInterval(timer)
  window.removeEventListener('keydown', pressed)
  stop()
})
</script>

<template>
  <v-app>
    <div class="frame">
      <header class="top">
        <router-link to="/start" class="home" title="What this project has, and what to do next" data-test="start"><img src="/osprey.svg" alt="" class="logo" /><span class="product">Osprey</span></router-link>
        <nav class="pages" aria-label="Console">
          <router-link v-for="p in pages" :key="p.name" :to="p.to" class="to" :class="{ here: route.name === p.name }" :aria-current="route.name === p.name ? 'page' : undefined" :data-test="p.name">{{ p.title }}</router-link>
        </nav>
        <span class="space" />
        <span v-if="revision" class="state" :title="about" data-test="revision">revision {{ revision.number }}</span>
        <span v-if="state" class="state" :title="state.text" data-test="state"><span class="dot" :class="{ ok: state.ok }" /><span class="state-text">{{ state.text }}</span></span>
        <button type="button" class="find" title="Go anywhere, do anything (Ctrl-K or Cmd-K)" data-test="palette" @click="palette = true"><v-icon :icon="mdiMagnify" size="16" /><span>Go to</span><kbd>Ctrl K</kbd></button>
        <KeyDialog />
        <v-btn :icon="mdiThemeLightDark" size="small" aria-label="Light or dark" title="Light or dark" data-test="theme" @click="otherTheme" />
      </header>
      <div v-if="as !== null" class="as" role="status" data-test="as"><b>You look {{ as ? `as ${as}` : 'as somebody without a role' }}.</b> Types, plans and answers are theirs. <button type="button" class="plain link" data-test="as-stop" @click="stopLooking">Stop</button></div>
      <div v-if="trouble" class="trouble" role="alert" data-test="trouble">
        <b>Not served yet.</b>
        <code v-if="trouble.place">{{ trouble.place }}</code>
        <span>{{ trouble.problem }}<template v-if="trouble.fix"> → {{ trouble.fix }}</template></span>
        <span v-if="trouble.more" class="more">and {{ trouble.more }} more</span>
      </div>
      <div v-for="text in records" :key="text" class="trouble" role="alert" data-test="records"><b>Records.</b><span>{{ text }}</span></div>
      <main class="main"><router-view v-slot="{ Component }"><keep-alive :include="['AskPage', 'TypesPage']"><component :is="Component" /></keep-alive></router-view></main>
    </div>
    <CommandPalette v-if="palette" @close="palette = false" @act="chosen" />
    <KeyList v-if="keys" @close="keys = false" />
  </v-app>
</template>

<style scoped>
.frame { height: 100vh; display: flex; flex-direction: column; }
.top { display: flex; align-items: center; height: 44px; flex: none; padding: 0 6px 0 14px; background: rgb(var(--v-theme-surface)); border-bottom: 1px solid var(--line); }
.logo { width: 22px; }
.home { display: flex; align-items: center; height: 100%; color: inherit; text-decoration: none; margin-right: 10px; }
.home:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -1px; }
.product { font-weight: 700; font-size: 15px; margin: 0 4px 0 8px; }
.pages { display: flex; height: 100%; overflow-x: auto; scrollbar-width: none; }
.to { text-decoration: none; color: var(--quiet); font-weight: 600; font-size: 13px; padding: 0 10px; display: flex; align-items: center; border-bottom: 2px solid transparent; border-top: 2px solid transparent; }
.to.here { color: var(--ink); border-bottom-color: var(--ink); }
.space { flex: 1; }
.state { font-size: 12.5px; color: var(--quiet); margin-right: 12px; display: flex; align-items: center; gap: 6px; white-space: nowrap; min-width: 0; }
.state-text { overflow: hidden; text-overflow: ellipsis; max-width: 320px; }
.dot { width: 8px; height: 8px; border-radius: 50%; background: rgb(var(--v-theme-error)); flex: none; }
.dot.ok { background: rgb(var(--v-theme-success)); }
.find { all: unset; cursor: pointer; display: flex; align-items: center; gap: 6px; font-size: 12.5px; color: var(--quiet); border: 1px solid var(--line); border-radius: 4px; height: 26px; padding: 0 8px; white-space: nowrap; }
.find:focus-visible, .to:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); outline-offset: -1px; }
.find kbd { font-family: inherit; font-size: 11px; border: 1px solid var(--line); border-radius: 3px; padding: 0 4px; }
.trouble { display: flex; flex-wrap: wrap; gap: 4px 10px; align-items: baseline; padding: 6px 14px; font-size: 13px; border-bottom: 1px solid rgb(var(--v-theme-error)); background: color-mix(in srgb, rgb(var(--v-theme-error)) 8%, rgb(var(--v-theme-surface))); flex: none; }
.trouble code { font-size: 12.5px; }
.more { color: var(--quiet); }
.as { padding: 4px 14px; font-size: 13px; flex: none; border-bottom: 1px solid rgb(var(--v-theme-warning)); background: color-mix(in srgb, rgb(var(--v-theme-warning)) 10%, rgb(var(--v-theme-surface))); }
.link { color: rgb(var(--v-theme-primary)); }
.main { background: rgb(var(--v-theme-surface)); flex: 1; min-height: 0; overflow: auto; }
@media (max-width: 900px) { .find span, .find kbd, .state-text { display: none; } }
@media (max-width: 560px) { .product, .state { display: none; } .logo { margin-right: 6px; } .top { padding-left: 8px; } .to { padding: 0 7px; } }
</style>
