import type { Directive } from 'vue'

/** Gives each cell the words of its column, for narrow windows, where a table becomes a list. */
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

/** A table that becomes a list where it is narrow. */
export const vStack: Directive<HTMLElement> = {
  mounted(table) {
    table.classList.add('stack')
    label(table)
  },
  updated: label,
}

declare module 'vue' {
  interface GlobalDirectives {
    vStack: typeof vStack
  }
}
