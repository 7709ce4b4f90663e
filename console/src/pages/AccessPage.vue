<script setup lang="ts">
import { mdiContentCopy } from '@mdi/js'
import { computed, nextTick, onMounted, ref, shallowRef, useTemplateRef } from 'vue'
import { useRouter } from 'vue-router'
import { lookAs, NoAnswer } from '../client'
import RoleTrial from '../components/RoleTrial.vue'
import { addProgramKey, programKeys, revokeProgramKey, roleViews, type ProgramKey, type RoleView } from '../operator'
import PageTrouble from '../components/PageTrouble.vue'
import { troubleOf, type Trouble } from '../trouble'

/** Keys of client programs: whose, used when; made here, and revoked. And roles: what of the schema each sees. */
const router = useRouter()
const roleList = shallowRef<RoleView[]>([])
const opened = ref('')
const tried = ref<string>() // the role with which an operation is tried
const keys = shallowRef<ProgramKey[]>()
const problem = shallowRef<Trouble>()
const adding = ref(false)
const nameField = useTemplateRef<HTMLInputElement>('nameField')
const name = ref('')
const roles = ref('')
const until = ref('')
const made = ref<{ name: string; key: string }>()
const said = ref('')
const asked = shallowRef<ProgramKey>()
const gone = ref(false)

const shown = computed(() => (keys.value ?? []).filter((k) => gone.value || !ended(k)))
const ended = (k: ProgramKey) => k.revoked !== undefined || (k.until !== undefined && new Date(k.until) < new Date())

async function look() {
  try {
    keys.value = await programKeys()
    problem.value = undefined
  } catch (error) {
    problem.value = troubleOf(error)
  }
}

async function begin() {
  adding.value = true
  await nextTick()
  nameField.value?.focus()
}

async function add() {
  try {
    const key = await addProgramKey({ name: name.value.trim(), roles: roles.value.split(/[\s,]+/).filter(Boolean), until: until.value ? new Date(until.value).toISOString() : undefined, by: 'console' })
    made.value = { name: key.name, key: key.key ?? '' }
    adding.value = false
    name.value = roles.value = until.value = said.value = ''
  } catch (error) {
    said.value = error instanceof NoAnswer ? error.message : String(error)
  }
  await look()
}

async function revoke(k: ProgramKey) {
  asked.value = undefined
  await revokeProgramKey(k.id, 'console').catch((error) => (problem.value = troubleOf(error)))
  await look()
}

async function copy() {
  await navigator.clipboard.writeText(made.value?.key ?? '').then(() => (said.value = 'Copied.'), () => (said.value = 'The browser does not let this page copy: select the text.'))
}

const day = (at?: string) => (at ? new Date(at).toLocaleString(undefined, { dateStyle: 'medium', timeStyle: 'short' }) : '')
async function tryRole(role: string) {
  lookAs(role)
  await router.push('/types')
  window.location.reload()
}

const who = (r: RoleView) => r.name || 'somebody without a role'
onMounted(async () => {
  roleList.value = await roleViews().catch(() => [])
  await look()
})
</script>

<template>
  <div class="access">
    <PageTrouble v-if="problem" :trouble="problem" :bar="!!keys" data-test="access-problem" />
    <template v-if="!problem || keys">
      <div class="bar">
        <b>Keys of client programs</b>
        <label class="quiet"><input v-model="gone" type="checkbox" data-test="gone" /> also those that have ended</label>
        <span class="space" />
        <v-btn variant="flat" color="primary" data-test="add-key" @click="begin">Add a key</v-btn>
      </div>
      <div v-if="made" class="made" role="status" data-test="made">
        <p><b>The key of {{ made.name }}.</b> It is shown this once: nobody can read it again.</p>
        <code tabindex="0">{{ made.key }}</code> <v-btn size="small" :prepend-icon="mdiContentCopy" @click="copy">Copy</v-btn> <v-btn size="small" @click="(made = undefined), (said = '')">I have it</v-btn> <span class="quiet">{{ said }}</span>
      </div>
      <form v-if="adding" class="form" @submit.prevent="add">
        <label>Name <input ref="nameField" v-model="name" placeholder="of the program" data-test="key-name" /></label>
        <label>Roles <input v-model="roles" placeholder="screen, clerk" data-test="key-roles" /></label>
        <label>Until <input v-model="until" type="date" aria-label="Until" /></label>
        <v-btn type="submit" variant="flat" color="primary" :disabled="!name.trim()" data-test="make-key">Make it</v-btn>
        <v-btn @click="adding = false">Cancel</v-btn>
        <span class="wrong">{{ said }}</span>
      </form>
      <p v-if="!keys" class="message">The keys are on their way.</p>
      <p v-else-if="!keys.length" class="message">There is no key yet. A service without any answers everybody on its own machine, unless osprey.yaml says under <code>access</code> how callers are known. <router-link to="/help/access">How</router-link></p>
      <div v-else class="table">
        <table>
          <thead><tr><th>name</th><th>roles</th><th>made</th><th>by</th><th>used last</th><th>until</th><th /></tr></thead>
          <tbody>
            <tr v-for="k in shown" :key="k.id" :class="{ ended: ended(k) }" data-test="key-row">
              <td><b>{{ k.name }}</b> <span class="quiet mono">{{ k.id }}</span></td>
              <td>{{ k.roles.join(', ') || '—' }}</td>
              <td>{{ day(k.made) }}</td>
              <td>{{ k.by }}</td>
              <td>{{ day(k.used) || 'never' }}</td>
              <td>{{ k.revoked ? `revoked by ${k.revokedBy}, ${day(k.revoked)}` : day(k.until) }}</td>
              <td class="do">
                <template v-if="asked === k"><span class="wrong">Its requests are refused from now on.</span> <button type="button" class="plain link wrong" data-test="revoke-sure" @click="revoke(k)">Revoke it</button> <button type="button" class="plain link" @click="asked = undefined">Keep it</button></template>
                <button v-else-if="!ended(k)" type="button" class="plain link" data-test="revoke" @click="asked = k">Revoke</button>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
    </template>
    <template v-if="roleList.length">
      <div class="bar"><b>Roles</b> <span class="quiet">What they may is said in the types, by <code>@for</code>, and in osprey.yaml. <router-link to="/help/access">How</router-link></span></div>
      <div class="table roles">
        <table>
          <tbody>
            <template v-for="r in roleList" :key="r.name">
              <tr data-test="role">
                <td><b v-if="r.name">{{ r.name }}</b><span v-else>somebody without a role</span></td>
                <td>
                  <button v-if="r.hides.length" type="button" class="plain link" :aria-expanded="opened === who(r)" @click="opened = opened === who(r) ? '' : who(r)">does not see {{ r.hides.length }} {{ r.hides.length === 1 ? 'type or field' : 'types and fields' }}</button><span v-else>sees all types and fields</span>
                  <p v-if="opened === who(r)" class="hides"><router-link v-for="h in r.hides" :key="h" :to="`/types/${h}`">{{ h }}</router-link></p>
                </td>
                <td class="do"><button type="button" class="plain link try" data-test="try-role" :aria-expanded="tried === r.name" @click="tried = tried === r.name ? undefined : r.name">Try an operation</button> <button type="button" class="plain link" data-test="look-as" @click="tryRole(r.name)">Look as {{ who(r) }}</button></td>
              </tr>
              <tr v-if="tried === r.name"><td colspan="3" class="inside"><RoleTrial :role="r.name" /></td></tr>
            </template>
          </tbody>
        </table>
      </div>
    </template>
  </div>
</template>

<style scoped>
.access { min-height: 100%; background: rgb(var(--v-theme-surface)); }
.bar, .form { display: flex; flex-wrap: wrap; gap: 6px 18px; align-items: center; padding: 8px 16px; border-bottom: 1px solid var(--line); }
.space { flex: 1; }
.quiet { color: var(--quiet); }
.wrong { color: rgb(var(--v-theme-error)) !important; }
.message { padding: 10px 16px; margin: 0; color: var(--quiet); }
.made { padding: 10px 16px; border-bottom: 1px solid var(--line); background: color-mix(in srgb, rgb(var(--v-theme-warning)) 8%, transparent); overflow-wrap: anywhere; }
.made p { margin: 0 0 4px; }
code, .mono { font-family: var(--mono); font-size: 12.5px; }
input:not([type='checkbox']) { border: 1px solid var(--line); border-radius: 4px; height: 26px; padding: 0 8px; color: inherit; background: transparent; margin-left: 6px; }
input:focus-visible { outline: 2px solid rgb(var(--v-theme-primary)); }
.table { overflow: auto; }
table { width: 100%; border-collapse: collapse; }
th { text-align: left; font-weight: 600; font-size: 12px; color: var(--quiet); padding: 4px 16px; border-bottom: 1px solid var(--line); white-space: nowrap; }
td { padding: 5px 16px; border-bottom: 1px solid color-mix(in srgb, var(--ink) 6%, transparent); font-variant-numeric: tabular-nums; }
.ended { color: var(--quiet); }
.do { text-align: right; white-space: nowrap; }
.try { margin-right: 16px; }
.inside { padding: 0; white-space: normal; }
.hides { display: flex; flex-wrap: wrap; gap: 2px 12px; margin: 4px 0 0; font-size: 12.5px; }
a, .link { color: rgb(var(--v-theme-primary)); }
@media (max-width: 760px) {
  .roles table, .roles tbody, .roles tr, .roles td { display: block; }
  .roles td { text-align: left; white-space: normal; border: 0; padding: 3px 16px; }
  .roles tr { border-bottom: 1px solid var(--line); padding: 4px 0; }
  .roles .inside { padding: 0; }
}
</style>
