import { computed, type ComputedRef, ref, shallowRef, watch } from 'vue'

import { problemOf } from '../api/client'
import { type Loaded, type LoadOptions, useLoad } from './useLoad'

/** The number of rows per request. */
const part = 100

/**
 * A list that grows for years: its newest part, which is kept up to date, and
 * older parts as somebody wants them.
 */
export function useParts<T>(
  load: (before?: number) => Promise<T[]>,
  id: (row: T) => number,
  on: LoadOptions,
): Omit<Loaded<T[]>, 'data'> & {
  rows: ComputedRef<T[] | null>
  more: ComputedRef<boolean>
  older: () => Promise<void>
} {
  const newest = useLoad(() => load(), on)
  const behind = shallowRef<T[]>([])
  const ended = ref(false)
  watch(on.watch ?? (() => null), () => {
    behind.value = []
    ended.value = false
  })
  const rows = computed(() => {
    if (!newest.data.value) return null
    const seen = new Set(newest.data.value.map(id))
    return [...newest.data.value, ...behind.value.filter((r) => !seen.has(id(r)))]
  })

  async function older(): Promise<void> {
    const last = rows.value?.at(-1)
    if (last === undefined) return
    try {
      const got = await load(id(last))
      behind.value = [...(rows.value ?? []).slice(newest.data.value?.length ?? 0), ...got]
      ended.value = got.length < part
    } catch (e) {
      newest.problem.value = problemOf(e)
    }
  }

  const more = computed(() => !ended.value && (rows.value?.length ?? 0) >= part)
  return { rows, more, older, problem: newest.problem, pending: newest.pending, reload: newest.reload }
}
