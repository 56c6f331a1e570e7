import { computed, type ComputedRef, onScopeDispose, type Ref, ref, shallowRef, watch } from 'vue'
import { useRoute } from 'vue-router'

import { Problem, problemOf } from '../api/client'
import { type Change, useLive } from '../stores/live'

export interface Loaded<T> {
  data: Ref<T | null>
  problem: Ref<Problem | null>
  /** It is loading, and there is nothing to show yet. */
  pending: ComputedRef<boolean>
  reload: () => Promise<void>
}

export interface LoadOptions {
  /** Its dependencies: another value reloads it. */
  watch?: () => unknown
  /** The events that can change it. */
  topics?: string[]
  /** Its subject: an event about another subject does not concern it. */
  about?: () => Record<string, unknown>
}

/** Whether an event concerns a page: its service and its subject. */
export function concerns(change: Change, service: string, topics: string[], about: Record<string, unknown>): boolean {
  if (!topics.includes(change.topic)) return false
  if (service && change.service && change.service !== service) return false
  return Object.entries(about).every(([key, value]) => {
    const said = change.body[key]
    return said === undefined || said === '' || said === value
  })
}

/**
 * Loads something now, again when what it depends on changes, and again when
 * something happens on one of the topics. What is shown stays until the new is
 * there; an answer that comes after a newer question is dropped.
 */
export function useLoad<T>(load: () => Promise<T>, on: LoadOptions = {}): Loaded<T> {
  const data = shallowRef<T | null>(null) as Ref<T | null>
  const problem = ref<Problem | null>(null) as Ref<Problem | null>
  const busy = ref(false)
  const route = useRoute()
  let asked = 0
  let timer: ReturnType<typeof setTimeout> | undefined

  async function reload(): Promise<void> {
    const mine = ++asked
    busy.value = true
    try {
      const got = await load()
      if (mine !== asked) return
      data.value = got
      problem.value = null
    } catch (e) {
      if (mine === asked) problem.value = problemOf(e)
    } finally {
      if (mine === asked) busy.value = false
    }
  }

  function soon(): void {
    timer ??= setTimeout(() => {
      timer = undefined
      void reload()
    }, 120)
  }

  const stop = useLive().listen((change) => {
    const service = String(route.params.service ?? '')
    if (change === null || concerns(change, service, on.topics ?? [], on.about?.() ?? {})) soon()
  })
  onScopeDispose(() => {
    stop()
    clearTimeout(timer)
    asked++
  })
  watch(on.watch ?? (() => null), () => {
    data.value = null
    void reload()
  })
  void reload()
  return { data, problem, pending: computed(() => busy.value && data.value === null), reload }
}
