<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, nextTick, onMounted, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { helpPage, helpPages, type HelpPage } from '../client'

const route = useRoute()
const router = useRouter()
const pages = ref<HelpPage[]>([])
const html = ref('')
const problem = ref('')
const words = ref('')
const text = ref<HTMLElement>()

const name = computed(() => (route.params.page as string) || 'start')

// Parts whose heading has all of the words come before those whose text has them.
const found = computed(() => {
  const wanted = words.value.toLowerCase().split(/\s+/).filter(Boolean)
  if (!wanted.length) return []
  const has = (s: string) => wanted.every((w) => s.toLowerCase().includes(w))
  const all = pages.value.flatMap((p) => p.sections.map((s) => ({ page: p, section: s })))
  const titled = all.filter(({ section }) => has(section.title))
  const mentioned = all.filter(({ page, section }) => page.name !== 'messages' && !has(section.title) && has(section.text))
  return [...titled, ...mentioned].slice(0, 40)
})

async function show() {
  try {
    html.value = await helpPage(name.value)
    problem.value = ''
  } catch (cause) {
    problem.value = cause instanceof Error ? cause.message : String(cause)
  }
  await nextTick()
  const at = route.hash ? document.getElementById(decodeURIComponent(route.hash.slice(1))) : null
  if (at) at.scrollIntoView()
  else text.value?.scrollTo(0, 0)
}

/** Links between pages stay within the console. */
function follow(event: MouseEvent) {
  const link = (event.target as HTMLElement).closest('a')
  const to = link?.getAttribute('href')
  if (!to || event.ctrlKey || event.metaKey || event.shiftKey) return
  if (to.startsWith('/console/help/')) {
    event.preventDefault()
    void router.push(to.slice('/console'.length))
  } else if (to.startsWith('#')) {
    event.preventDefault()
    void router.push({ path: route.path, hash: to })
  }
}

onMounted(async () => {
  pages.value = await helpPages().catch(() => [])
})
watch(() => [name.value, route.hash], show, { immediate: true })
</script>

<template>
  <div class="help">
    <nav class="list" aria-label="Pages">
      <v-text-field
        v-model="words" :prepend-inner-icon="mdiMagnify" placeholder="Find in all pages" density="compact" variant="outlined" hide-details clearable
        aria-label="Find in all pages" data-test="find" class="find"
      />
      <ul v-if="words" data-test="found">
        <li v-for="{ page, section } in found" :key="page.name + section.anchor">
          <router-link :to="{ path: '/help/' + page.name, hash: '#' + section.anchor }">{{ section.title }}<small>{{ page.title }}</small></router-link>
        </li>
        <li v-if="!found.length" class="none">Nothing has these words.</li>
      </ul>
      <ul v-else>
        <li v-for="p in pages" :key="p.name"><router-link :to="'/help/' + p.name" :class="{ here: p.name === name }">{{ p.title }}</router-link></li>
      </ul>
    </nav>
    <article ref="text" class="text" data-test="page" @click="follow">
      <p v-if="problem" class="problem">{{ problem }}</p>
      <!-- the service's own pages, rendered there -->
      <div v-else class="prose" v-html="html" />
    </article>
  </div>
</template>

<style scoped>
.help { display: grid; grid-template-columns: 270px 1fr; height: 100%; }
.list { overflow: auto; padding: 12px; border-right: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
.find { margin-bottom: 10px; }
.list ul { list-style: none; padding: 0; }
.list a { display: block; padding: 4px 8px; border-radius: 4px; color: inherit; text-decoration: none; font-size: 0.86rem; }
.list a:hover, .list a.here { background: rgb(var(--v-theme-surface-variant)); }
.list a.here { font-weight: 600; }
.list a:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
.list small { display: block; opacity: 0.7; }
.none { padding: 4px 8px; opacity: 0.7; font-size: 0.86rem; }
.text { overflow: auto; background: rgb(var(--v-theme-surface)); padding: 20px 32px 60px; }
.problem { color: rgb(var(--v-theme-error)); }
.prose { max-width: 96ch; font-size: 0.92rem; line-height: 1.55; }
.prose :deep(h1) { font-size: 1.5rem; line-height: 1.25; margin: 0 0 14px; }
.prose :deep(h2) { font-size: 1.15rem; margin: 28px 0 8px; }
.prose :deep(h3) { font-size: 1rem; margin: 20px 0 6px; }
.prose :deep(p), .prose :deep(ul), .prose :deep(ol), .prose :deep(table), .prose :deep(pre) { margin: 0 0 12px; }
.prose :deep(ul), .prose :deep(ol) { padding-left: 22px; }
.prose :deep(a) { color: rgb(var(--v-theme-primary)); }
.prose :deep(code) { font-family: var(--mono); font-size: 0.86em; background: rgb(var(--v-theme-surface-variant)); padding: 1px 4px; border-radius: 3px; }
.prose :deep(pre) { overflow: auto; background: rgb(var(--v-theme-surface-variant)); padding: 10px 12px; border-radius: 4px; line-height: 1.4; }
.prose :deep(pre code) { background: none; padding: 0; font-size: 0.8rem; }
.prose :deep(table) { border-collapse: collapse; display: block; overflow: auto; font-size: 0.85rem; }
.prose :deep(th), .prose :deep(td) { text-align: left; vertical-align: top; padding: 4px 14px 4px 0; min-width: 9ch; border-bottom: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); }
.prose :deep(img) { max-width: 100%; border: 1px solid rgba(var(--v-border-color), var(--v-border-opacity)); border-radius: 4px; }
</style>
