<script setup lang="ts">
import { computed } from 'vue'
import type { TypeField } from '../client'
import type { Finding } from '../operator'
import { sourceColour } from '../sources'

/** A field of a type: what it is, where it comes from, and who uses it. */
const props = defineProps<{ field: TypeField; coordinate: string; here: boolean; uses: string[]; asked?: number; counted: boolean; findings: Finding[] }>()
const from = computed(() => [props.field.source, props.field.where].filter(Boolean).join(' · '))
const parts = (type: string) => type.match(/\w+|\W+/g) ?? []
</script>

<template>
  <div class="field" :class="{ here }" data-test="field">
    <div class="head">
      <span class="mark" :style="{ background: field.source ? sourceColour(field.source.split(', ')[0] ?? '') : 'transparent' }" />
      <router-link :to="`/types/${coordinate}`" class="name" :class="{ gone: field.deprecated !== undefined }">{{ field.name }}</router-link>
      <span class="type"><template v-for="(p, i) in parts(field.type)" :key="i"><router-link v-if="p === field.of" :to="`/types/${p}`">{{ p }}</router-link><template v-else>{{ p }}</template></template></span>
      <span v-if="field.default" class="type">= {{ field.default }}</span>
      <span class="from">{{ from }}</span>
    </div>
    <p v-if="field.text" class="text">{{ field.text }}</p>
    <p v-if="field.deprecated !== undefined" class="text old">deprecated: {{ field.deprecated }}</p>
    <p v-for="(f, i) in findings" :key="i" class="text" :class="f.severity" data-test="finding">{{ f.message }}<template v-if="f.fix"> → {{ f.fix }}</template> <code v-if="f.file">{{ f.file }}:{{ f.line }}</code></p>
    <ul v-if="field.args?.length" class="args">
      <li v-for="a in field.args" :key="a.name"><code>{{ a.name }}: <router-link :to="`/types/${a.of}`">{{ a.type }}</router-link><template v-if="a.default"> = {{ a.default }}</template></code> <span class="about">{{ a.text }}</span></li>
    </ul>
    <p v-if="uses.length || asked" class="uses"><template v-if="uses.length">used by {{ uses.join(', ') }}</template><template v-if="asked">{{ uses.length ? ' · ' : '' }}asked {{ asked.toLocaleString('en') }} {{ asked === 1 ? 'time' : 'times' }} in 24 hours</template></p>
    <p v-else-if="counted && field.where" class="uses">nobody has asked for it in 24 hours</p>
  </div>
</template>

<style scoped>
.field { position: relative; padding: 4px 0 4px 12px; border-bottom: 1px solid color-mix(in srgb, var(--ink) 7%, transparent); }
.here { background: color-mix(in srgb, rgb(var(--v-theme-primary)) 10%, transparent); }
.mark { position: absolute; left: 0; top: 4px; bottom: 4px; width: 3px; }
.head { display: flex; flex-wrap: wrap; gap: 2px 10px; align-items: baseline; }
.name { font-family: var(--mono); font-size: 13px; font-weight: 600; color: var(--ink); text-decoration: none; }
.name:hover { text-decoration: underline; }
.gone { text-decoration: line-through; }
.type, code { font-family: var(--mono); font-size: 12.5px; }
.type a, code a { color: var(--ed-type); text-decoration: none; }
.type a:hover, code a:hover { text-decoration: underline; }
.from { margin-left: auto; font-size: 12px; color: var(--quiet); text-align: right; overflow-wrap: anywhere; }
.text { margin: 1px 0; max-width: 80ch; }
.old { color: rgb(var(--v-theme-warning)); }
.warning { color: rgb(var(--v-theme-warning)); }
.error { color: rgb(var(--v-theme-error)); }
.args { list-style: none; margin: 2px 0; padding: 0 0 0 14px; }
.about { color: var(--quiet); font-size: 12.5px; }
.uses { font-size: 12px; color: var(--quiet); margin: 1px 0 0; }
</style>
