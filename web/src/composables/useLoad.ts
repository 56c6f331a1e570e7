import { onScopeDispose, type Ref, ref, shallowRef, watch } from 'vue'

import { Problem } from '../api/client'
import { useLive } from '../stores/live'

export interface Loaded<T> {
  data: Ref<T | null>
  problem: Ref<Problem | null>
  reload: () => Promise<void>
}

/**
 * Loads something now, again when what it depends on changes, and again when
 * something happens on one of the topics. What is shown stays until the new is
 * there; an answer that comes after a newer question is dropped.
 */
export function useLoad<T>(load: () => Promise<T>, on: { watch?: () => unknown; topics?: string[] } = {}): Loaded<T> {
  const data = shallowRef<T | null>(null) as Ref<T | null>
  const problem = ref<Problem | null>(null) as Ref<Problem | null>
  let asked = 0
  let timer: ReturnType<typeof setTimeout> | undefined

  async function reload(): Promise<void> {
    const mine = ++asked
    try {
      const got = await load()
      if (mine !== asked) return
      data.value = got
      problem.value = null
    } catch (e) {
      if (mine === asked) problem.value = e instanceof Problem ? e : new Problem(0, String(e))
    }
  }

  function soon(): void {
    timer ??= setTimeout(() => {
      timer = undefined
      void reload()
    }, 120)
  }

  const stop = useLive().listen((change) => {
    if (change === null || on.topics?.includes(change.topic)) soon()
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
  return { data, problem, reload }
}
