import { ref, watch, type Ref } from 'vue'
import { variableProblems, type Given, type VariableProblem } from '../client'

/** What is wrong with variables, held against their types by the service whenever they, or the operation, have changed. */
export function checked(given: () => Given): Ref<VariableProblem[]> {
  const found = ref<VariableProblem[]>([])
  let waiting = 0
  let asked = 0
  watch(given, (now) => {
    window.clearTimeout(waiting)
    const own = ++asked
    if (!now.query.includes('$') && /^\s*(\{\s*\})?\s*$/.test(now.variables)) {
      found.value = []
      return
    }
    waiting = window.setTimeout(async () => {
      const list = await variableProblems(now).catch(() => [])
      if (own === asked) found.value = list
    }, 250)
  }, { immediate: true, deep: true })
  return found
}
