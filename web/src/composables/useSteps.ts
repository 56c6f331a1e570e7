import { computed, type ComputedRef, ref, type Ref, shallowRef, watch } from 'vue'

import { ask, client, Problem, problemOf, type Schemas } from '../api/client'

/**
 * The steps of a plan. A large one comes with those of its first functions; the rest is
 * fetched part by part when somebody wants it, until all are there, the page is left or
 * another plan is shown. `id` is the plan's number, 0 where it was not kept.
 */
export function useSteps(
  plan: () => Schemas['Plan'],
  id: () => number,
): {
  /** By index once all are loaded, else by function. */
  steps: ComputedRef<Schemas['Step'][]>
  /** All of them are loaded. */
  whole: ComputedRef<boolean>
  pending: Ref<boolean>
  problem: Ref<Problem | null>
  fetchRest: () => Promise<void>
} {
  const later = shallowRef<Schemas['Step'][]>([])
  const next = ref<string | undefined>()
  const pending = ref(false)
  const problem = ref<Problem | null>(null) as Ref<Problem | null>
  watch(
    plan,
    (p) => {
      later.value = []
      next.value = p.next
      pending.value = false
      problem.value = null
    },
    { immediate: true },
  )

  async function fetchRest(): Promise<void> {
    const of = plan()
    if (pending.value) return
    pending.value = true
    problem.value = null
    try {
      while (plan() === of && next.value !== undefined) {
        const part = await ask(
          client.GET('/services/{service}/plan/steps', {
            params: {
              path: { service: of.base.service },
              query: { digest: of.digest, plan: id() || undefined, after: next.value },
            },
          }),
        )
        if (plan() !== of) return
        later.value = [...later.value, ...part.steps]
        next.value = part.next
      }
    } catch (e) {
      if (plan() === of) problem.value = problemOf(e)
    }
    if (plan() === of) pending.value = false
  }

  return {
    steps: computed(() => {
      const all = later.value.length ? [...plan().steps, ...later.value] : plan().steps
      return next.value === undefined && later.value.length ? all.sort((a, b) => a.index - b.index) : all
    }),
    whole: computed(() => next.value === undefined),
    pending,
    problem,
    fetchRest,
  }
}
