import { computed, ref, type ComputedRef } from 'vue'

/**
 * A long list, of which the first lines are shown, and ten times as many each
 * time that somebody wants more. The rest is counted, so that nothing is hidden
 * silently.
 */
export function useFold<T>(
  list: () => T[],
  most: number,
): { shown: ComputedRef<T[]>; more: ComputedRef<number>; unfold: () => void } {
  const room = ref(most)
  const shown = computed(() => (list().length <= room.value + 1 ? list() : list().slice(0, room.value)))
  return { shown, more: computed(() => list().length - shown.value.length), unfold: () => (room.value *= 10) }
}
