<script setup lang="ts">
import { type ComponentPublicInstance, onBeforeUnmount, onMounted, useTemplateRef } from 'vue'

/** A table that becomes a list on narrow screens: each cell then has its column's label. */
defineProps<{
  /** The label of the table for screen readers. */
  caption: string
}>()
const part = useTemplateRef<ComponentPublicInstance>('part')

/** Labels each cell with its column. */
function label(table: HTMLElement): void {
  const words = [...table.querySelectorAll('thead th')].map((th) =>
    th.querySelector('.visually-hidden') ? '' : (th.textContent ?? '').trim(),
  )
  for (const row of table.querySelectorAll('tbody tr')) {
    const cells = row.querySelectorAll('td')
    if (cells.length !== words.length) continue // a row with content of its own
    cells.forEach((cell, i) => {
      // The first cell names the row.
      if (i > 0 && words[i] && cell.dataset.label !== words[i]) cell.dataset.label = words[i]
    })
  }
}

// Rows change without an update of this component, because the parent renders the slot.
let seen: MutationObserver | undefined
onMounted(() => {
  const table: unknown = part.value?.$el
  if (!(table instanceof HTMLElement)) return
  label(table)
  seen = new MutationObserver(() => label(table))
  seen.observe(table, { childList: true, subtree: true })
})
onBeforeUnmount(() => seen?.disconnect())
</script>

<template>
  <BTableSimple ref="part" class="rows stack">
    <caption class="visually-hidden">
      {{
        caption
      }}
    </caption>
    <slot />
  </BTableSimple>
</template>
