import { onMounted, onUnmounted } from 'vue'

/** What keys do, as the list of them says. */
export const shortcuts: { keys: string; does: string }[] = [
  { keys: '1 … 7', does: 'go to Board, Source, Versions, Plan, Deliveries, Functions, Journal' },
  { keys: '[ and ]', does: 'focus the stage before, and the next' },
  { keys: 'Ctrl K', does: 'find versions, functions, files, settings, documents, and act' },
  { keys: '?', does: 'this list' },
  { keys: 'arrows', does: 'on the Board: from cell to cell' },
  { keys: 'Esc, then Tab', does: 'in the editor: leave it' },
  { keys: 'Ctrl Space', does: 'in the editor: what can stand here' },
]

/** Carries out single keys, where nobody is typing. */
export function useShortcuts(does: (key: string) => void): void {
  function onKey(e: KeyboardEvent): void {
    const at = e.target as HTMLElement
    if (e.ctrlKey || e.metaKey || e.altKey || at.closest('input, textarea, select, [contenteditable], .modal, dialog'))
      return
    does(e.key)
  }
  onMounted(() => document.addEventListener('keydown', onKey))
  onUnmounted(() => document.removeEventListener('keydown', onKey))
}
