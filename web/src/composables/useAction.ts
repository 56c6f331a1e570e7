import { ref } from 'vue'

import { Problem } from '../api/client'

/** Runs an action, with its busy state and its error. */
export function useAction() {
  const busy = ref(false)
  const problem = ref<Problem | null>(null)

  async function run(action: () => Promise<void>): Promise<boolean> {
    if (busy.value) return false
    busy.value = true
    problem.value = null
    try {
      await action()
      return true
    } catch (e) {
      problem.value = e instanceof Problem ? e : new Problem(0, String(e))
      return false
    } finally {
      busy.value = false
    }
  }

  return { busy, problem, run }
}
