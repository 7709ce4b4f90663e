import { defineStore } from 'pinia'
import { computed, ref, shallowRef } from 'vue'
import { schemaTypes, type SchemaType, type SchemaTypes } from '../client'

/** What the schema has, read once and again when another revision is served. */
export const useTypes = defineStore('types', () => {
  const all = shallowRef<SchemaTypes>()
  const problem = ref('')
  let reading: Promise<void> | undefined
  let serial = 0

  const types = computed<SchemaType[]>(() => all.value?.types ?? [])
  /** The project has no types of its own yet. */
  const empty = computed(() => all.value?.empty ?? false)
  const byName = computed(() => new Map(types.value.map((t) => [t.name, t])))

  async function read() {
    try {
      all.value = await schemaTypes()
      problem.value = ''
    } catch (error) {
      problem.value = error instanceof Error ? error.message : String(error)
    }
  }

  /** Reads them, if they were not read. */
  function need(): Promise<void> {
    return (reading ??= read())
  }

  /** Says which revision is served. */
  function served(now: number) {
    if (serial && now !== serial && reading) reading = read()
    serial = now
  }

  return { all, types, empty, byName, problem, need, served }
})
