import { useWindowVirtualizer } from '@tanstack/vue-virtual'
import { computed, type ComputedRef, onMounted, onUpdated, ref, type Ref } from 'vue'

/** With fewer rows all of them are in the page, for the browser's own search and for print. */
const least = 150

export interface Rows<T> {
  /** The rows in view, with their indexes in the whole list. */
  inView: ComputedRef<{ row: T; index: number }[]>
  /** The height of the rows before and after them, in CSS pixels. */
  before: ComputedRef<number>
  after: ComputedRef<number>
  /** A row's ref, to measure its height. */
  measure: (el: unknown) => void
}

/**
 * Of very many rows those that can be seen in the window. The rows stand in `box`
 * one under another, each with its index as `data-index`; `size` is about how high
 * one is, in CSS pixels.
 */
export function useRows<T>(rows: () => T[], size: number, box: Ref<HTMLElement | null>): Rows<T> {
  const many = computed(() => rows().length > least)
  const margin = ref(0)
  const place = () => {
    if (!many.value || !box.value) return
    const top = Math.round(box.value.getBoundingClientRect().top + window.scrollY)
    if (top !== margin.value) margin.value = top
  }
  onMounted(place)
  onUpdated(place)
  const virtual = useWindowVirtualizer(
    computed(() => ({
      count: many.value ? rows().length : 0,
      estimateSize: () => size,
      overscan: 8,
      scrollMargin: margin.value,
    })),
  )
  const items = computed(() => virtual.value.getVirtualItems())
  return {
    inView: computed(() =>
      many.value
        ? items.value.flatMap((v) => {
            const row = rows()[v.index]
            return row === undefined ? [] : [{ row, index: v.index }]
          })
        : rows().map((row, index) => ({ row, index })),
    ),
    before: computed(() => (many.value ? Math.max(0, (items.value[0]?.start ?? margin.value) - margin.value) : 0)),
    after: computed(() =>
      many.value
        ? Math.max(0, virtual.value.getTotalSize() - ((items.value.at(-1)?.end ?? margin.value) - margin.value))
        : 0,
    ),
    measure: (el) => {
      if (many.value && el instanceof HTMLElement) virtual.value.measureElement(el)
    },
  }
}
