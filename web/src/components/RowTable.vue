<script setup lang="ts">
import { type ComponentPublicInstance, onBeforeUnmount, onMounted, useTemplateRef } from 'vue'

/** A table that becomes a list where it is narrow: each cell then says what its column said. */
defineProps<{
  /** What stands in it, for those who do not see the heading above it. */
  caption: string
}>()
const part = useTemplateRef<ComponentPublicInstance>('part')

/** Gives each cell the words of its column. */
function label(table: HTMLElement): void {
  const words = [...table.querySelectorAll('thead th')].map((th) =>
    th.querySelector('.visually-hidden') ? '' : (th.textContent ?? '').trim(),
  )
  for (const row of table.querySelectorAll('tbody tr')) {
    const cells = row.querySelectorAll('td')
    if (cells.length !== words.length) continue // a row that says something of its own
    cells.forEach((cell, i) => {
      // The first cell names the row.
      if (i > 0 && words[i] && cell.dataset.label !== words[i]) cell.dataset.label = words[i]
    })
  }
}

// Rows come and go without this component being drawn anew: what is in a slot is its owner's.
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
