<script setup lang="ts">
// A file before and after, side by side, with marked differences.
import { MergeView } from '@codemirror/merge'
import { EditorState } from '@codemirror/state'
import { EditorView, lineNumbers } from '@codemirror/view'
import { onBeforeUnmount, onMounted, ref, watch } from 'vue'

const props = defineProps<{ before: string; after: string; title: string; sides: string }>()
const host = ref<HTMLElement | null>(null)
let view: MergeView | null = null

function draw(): void {
  view?.destroy()
  if (!host.value) return
  const look = [
    lineNumbers(),
    EditorState.readOnly.of(true),
    EditorView.contentAttributes.of({ tabindex: '0', 'aria-label': props.title }),
    EditorView.theme({
      '&': { fontSize: '0.8125rem', backgroundColor: 'var(--surface)', color: 'var(--ink)' },
      '.cm-scroller': { fontFamily: 'var(--bs-font-monospace)' },
      '.cm-gutters': { backgroundColor: 'var(--wash)', color: 'var(--quiet)', border: 'none' },
      '.cm-collapsedLines': { background: 'var(--wash)', color: 'var(--quiet)' },
      '.cm-collapsedLines::before': { content: '"…"' },
      '.cm-collapsedLines::after': { content: '"…"' },
      '& .cm-changedLineGutter': { background: 'var(--fjord) !important' },
      '&.cm-merge-a .cm-changedLine': { backgroundColor: 'color-mix(in srgb, var(--amber) 14%, transparent)' },
      '&.cm-merge-b .cm-changedLine': { backgroundColor: 'color-mix(in srgb, var(--fjord) 14%, transparent)' },
      '&.cm-merge-a .cm-changedText, &.cm-merge-b .cm-changedText': {
        background: 'color-mix(in srgb, var(--fjord) 30%, transparent)',
      },
    }),
  ]
  view = new MergeView({
    parent: host.value,
    a: { doc: props.before, extensions: look },
    b: { doc: props.after, extensions: look },
    collapseUnchanged: { margin: 2, minSize: 4 },
  })
}
onMounted(draw)
watch(() => [props.before, props.after], draw)
onBeforeUnmount(() => view?.destroy())
</script>

<template>
  <div>
    <p class="mb-1">
      <code>{{ title }}</code> <span class="quiet">{{ sides }}</span>
    </p>
    <div ref="host" class="sheet mb-2" />
  </div>
</template>
