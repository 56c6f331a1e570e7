import { onMounted, onUnmounted } from 'vue'

/** The keyboard shortcuts. */
export const shortcuts: { keys: string; does: string; term?: string }[] = [
  { keys: '1 … 7', does: 'Go to Board, Source, Versions, Plan, Deliveries, Functions, Journal' },
  { keys: '[ and ]', does: 'Focus the previous or next stage in the', term: 'stage line' },
  { keys: 'Ctrl K', does: 'Search versions, functions, files, settings, docs and actions' },
  { keys: '?', does: 'Show keyboard shortcuts' },
  { keys: 'arrows', does: 'On the Board: move between cells' },
  { keys: 'Esc, then Tab', does: 'In the editor: leave the editor' },
  { keys: 'Ctrl Space', does: 'In the editor: show completions' },
]

/** Handles single keys, outside text fields. */
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
