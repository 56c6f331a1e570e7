<script setup lang="ts">
// The editor: CodeMirror with problems at their place and their quick fixes.
import {
  autocompletion,
  type Completion,
  type CompletionContext,
  type CompletionResult,
} from '@codemirror/autocomplete'
import { defaultKeymap, history, historyKeymap, indentWithTab } from '@codemirror/commands'
import { go } from '@codemirror/lang-go'
import { javascript } from '@codemirror/lang-javascript'
import { python } from '@codemirror/lang-python'
import { yaml } from '@codemirror/lang-yaml'
import { bracketMatching, HighlightStyle, syntaxHighlighting } from '@codemirror/language'
import { type Diagnostic, lintGutter, setDiagnostics } from '@codemirror/lint'
import { Compartment, EditorState } from '@codemirror/state'
import {
  drawSelection,
  EditorView,
  highlightActiveLine,
  highlightActiveLineGutter,
  hoverTooltip,
  keymap,
  lineNumbers,
  type Tooltip,
} from '@codemirror/view'
import { tags } from '@lezer/highlight'
import { onBeforeUnmount, onMounted, ref, useId, watch } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{
  file: string
  text: string
  diagnostics: Schemas['Diagnostic'][]
  readonly: boolean
  line?: number
  assist?: (line: number, column: number) => Promise<Schemas['AssistResult']>
}>()
const emit = defineEmits<{ change: [text: string]; line: [line: number, column: number] }>()
const host = ref<HTMLElement | null>(null)
const hint = useId()
const language = new Compartment()
const editable = new Compartment()
let view: EditorView | null = null

// Our own colors, so that they hold in light and in dark.
const colors = HighlightStyle.define([
  { tag: [tags.definition(tags.propertyName), tags.propertyName, tags.keyword], color: 'var(--fjord)' },
  { tag: [tags.string, tags.special(tags.string)], color: 'var(--spruce)' },
  { tag: [tags.number, tags.bool, tags.null], color: 'var(--amber)' },
  { tag: [tags.comment, tags.lineComment], color: 'var(--quiet)', fontStyle: 'italic' },
  { tag: [tags.function(tags.variableName), tags.definition(tags.variableName)], color: 'var(--heather)' },
])

function languageOf(file: string) {
  if (file.endsWith('.yaml')) return yaml()
  if (file.endsWith('.py')) return python()
  if (file.endsWith('.go')) return go()
  if (/\.[cm]?js$/.test(file) || file.endsWith('.json')) return javascript()
  if (/\.tsx?$/.test(file)) return javascript({ typescript: true })
  return []
}

/** Turns a line and a column, counted from 1 in code points, into an offset. */
function offset(state: EditorState, line: number, column: number): number {
  const at = state.doc.line(Math.min(Math.max(1, line), state.doc.lines))
  const before = [...at.text].slice(0, Math.max(0, column - 1)).join('')
  return Math.min(at.to, at.from + before.length)
}

function problems(state: EditorState): Diagnostic[] {
  return props.diagnostics.map((d) => {
    const from = offset(state, d.line, d.column)
    const fix = d.fix
    return {
      from,
      to: Math.max(from, offset(state, d.endLine, d.endColumn)),
      severity: d.severity,
      message: `${d.message} (${d.code})`,
      actions: fix
        ? [
            {
              name: fix.title,
              apply: (v: EditorView) =>
                v.dispatch({
                  changes: fix.edits.map((e) => ({
                    from: offset(v.state, e.line, e.column),
                    to: offset(v.state, e.endLine, e.endColumn),
                    insert: e.text,
                  })),
                }),
            },
          ]
        : [],
    }
  })
}

/** Requests suggestions from the server. */
async function complete(context: CompletionContext): Promise<CompletionResult | null> {
  if (!props.assist || !props.file.endsWith('.yaml')) return null
  const word = context.matchBefore(/[\w./-]*/)
  const at = context.state.doc.lineAt(context.pos)
  const found = await props.assist(at.number, [...at.text.slice(0, context.pos - at.from)].length + 1)
  if (context.aborted || found.completions.length === 0) return null
  const options = found.completions.map((c): Completion => ({
    label: c.label,
    apply: c.insert,
    detail: c.kind === 'key' ? '' : c.description,
    info: c.kind === 'key' ? c.description : undefined,
    type: c.kind === 'key' ? 'property' : 'constant',
  }))
  return { from: word?.from ?? context.pos, options, validFor: /^[\w./-]*$/ }
}

/** Shows the documentation of the key under the pointer. */
async function explain(v: EditorView, pos: number): Promise<Tooltip | null> {
  if (!props.assist || !props.file.endsWith('.yaml')) return null
  const at = v.state.doc.lineAt(pos)
  // After the key's colon the server knows the key of the position.
  const colon = at.text.indexOf(':', pos - at.from)
  const column = /^[\w-]*:/.test(at.text.slice(pos - at.from)) ? colon + 2 : pos - at.from
  const found = await props.assist(at.number, [...at.text.slice(0, column)].length + 1)
  if (!found.description) return null
  const create = () => {
    const dom = document.createElement('div')
    dom.className = 'px-2 py-1'
    dom.textContent = `${found.path.join(' › ')}: ${found.description}`
    return { dom }
  }
  return { pos, above: true, create }
}

function goTo(line: number | undefined): void {
  if (!view || !line) return
  const at = offset(view.state, line, 1)
  view.dispatch({ selection: { anchor: at }, effects: EditorView.scrollIntoView(at, { y: 'center' }) })
}

onMounted(() => {
  view = new EditorView({
    parent: host.value ?? undefined,
    state: EditorState.create({
      doc: props.text,
      extensions: [
        lineNumbers(),
        highlightActiveLine(),
        highlightActiveLineGutter(),
        history(),
        drawSelection(),
        bracketMatching(),
        lintGutter(),
        hoverTooltip(explain),
        autocompletion({ override: [complete], icons: false }),
        syntaxHighlighting(colors),
        keymap.of([indentWithTab, ...defaultKeymap, ...historyKeymap]),
        language.of(languageOf(props.file)),
        editable.of(EditorState.readOnly.of(props.readonly)),
        EditorView.contentAttributes.of({ 'aria-label': 'File content', 'aria-describedby': hint, tabindex: '0' }),
        EditorView.updateListener.of((u) => {
          if (u.docChanged) emit('change', u.state.doc.toString())
          if (u.selectionSet) {
            const head = u.state.selection.main.head
            const at = u.state.doc.lineAt(head)
            emit('line', at.number, [...at.text.slice(0, head - at.from)].length + 1)
          }
        }),
        EditorView.theme({
          '&': { height: '100%', fontSize: '0.8125rem', backgroundColor: 'var(--surface)', color: 'var(--ink)' },
          '.cm-scroller': { fontFamily: 'var(--bs-font-monospace)', overflow: 'auto' },
          '.cm-gutters': { backgroundColor: 'var(--wash)', color: 'var(--quiet)', border: 'none' },
          '.cm-activeLine, .cm-activeLineGutter': {
            backgroundColor: 'color-mix(in srgb, var(--fjord) 9%, transparent)',
          },
          '.cm-cursor': { borderLeftColor: 'var(--ink)' },
          '.cm-tooltip': { backgroundColor: 'var(--surface)', color: 'var(--ink)', border: '1px solid var(--rule)' },
        }),
      ],
    }),
  })
  view.dispatch(setDiagnostics(view.state, problems(view.state)))
  goTo(props.line)
})
onBeforeUnmount(() => view?.destroy())

watch(
  () => props.text,
  (text) => {
    if (view && text !== view.state.doc.toString())
      view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: text } })
  },
)
watch(
  () => props.diagnostics,
  () => view?.dispatch(setDiagnostics(view.state, problems(view.state))),
)
watch(
  () => props.readonly,
  (on) => view?.dispatch({ effects: editable.reconfigure(EditorState.readOnly.of(on)) }),
)
watch(() => props.line, goTo)
</script>

<template>
  <div class="editor">
    <div ref="host" class="host" />
    <p :id="hint" class="hint quiet">Press Esc, then Tab to leave the editor.</p>
  </div>
</template>

<style scoped>
.editor {
  height: 100%;
  position: relative;
}
.host {
  height: 100%;
}
.host :deep(.cm-focused) {
  outline: 2px solid var(--fjord);
  outline-offset: -2px;
}
.hint {
  position: absolute;
  right: 0.8rem;
  bottom: 0.3rem;
  margin: 0;
  padding: 0 0.3rem;
  background: var(--surface);
  font-size: 0.8125rem;
  opacity: 0;
  pointer-events: none;
}
.editor:focus-within .hint {
  opacity: 1;
}
</style>
