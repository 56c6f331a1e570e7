<script setup lang="ts">
// Finds and acts: pages, functions, stages, versions, commits, files, settings,
// secrets' names, codes, documents, and what can be done; by typing a few letters.
import { computed, ref, watch } from 'vue'
import { type RouteLocationRaw, useRouter } from 'vue-router'

import { ask, client, type Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useTheme } from '../composables/useTheme'
import { pages } from '../router'
import { useLine } from '../stores/line'

const shown = defineModel<boolean>({ required: true })
const emit = defineEmits<{ keys: [] }>()
const router = useRouter()
const line = useLine()
const { theme, turn } = useTheme()
const { service, stage, focus } = useFocus()
const text = ref('')
const at = ref(0)
const box = ref<HTMLDialogElement | null>(null)
const input = ref<HTMLInputElement | null>(null)
const documents = ref<Schemas['Document'][]>([])
const found = ref<Schemas['SearchResult'][]>([])

interface Entry {
  label: string
  kind: string
  about?: string
  go: () => unknown
}

const to = (where: RouteLocationRaw) => () => router.push(where)
const query = computed(() => ({ stage: stage.value || undefined }))
const params = computed(() => ({ service: service.value }))

/** The entries that need no request. */
const near = computed<Entry[]>(() => [
  ...pages.map((p) => ({
    label: p.label,
    kind: 'page',
    go: to({ name: p.name, params: params.value, query: query.value }),
  })),
  ...line.stages.map((s) => ({ label: s, kind: 'stage', about: 'focus this stage', go: () => focus(s) })),
  ...line.stages.map((s) => ({
    label: `Plan ${s}`,
    kind: 'action',
    go: to({ name: 'plan', params: params.value, query: { stage: s } }),
  })),
  { label: 'Notifications', kind: 'page', about: 'webhooks and email', go: to({ name: 'notifications' }) },
  { label: 'Account and tokens', kind: 'page', go: to({ name: 'account' }) },
  { label: 'Services and repositories', kind: 'page', go: to({ name: 'services' }) },
  { label: 'Health', kind: 'page', go: to({ name: 'health', params: params.value }) },
  { label: 'API', kind: 'page', go: to({ name: 'api' }) },
  { label: `Use ${theme.value === 'dark' ? 'light' : 'dark'} theme`, kind: 'action', go: turn },
  { label: 'Keyboard shortcuts', kind: 'action', go: () => emit('keys') },
  ...documents.value.flatMap((d) => [
    { label: d.title, kind: 'document', go: to({ name: 'doc', params: { name: d.name } }) },
    ...d.headings.map((h) => ({
      label: h.text,
      kind: 'document',
      about: d.title,
      go: to({ name: 'doc', params: { name: d.name }, hash: `#${h.id}` }),
    })),
  ]),
])

function far(f: Schemas['SearchResult']): Entry[] {
  const at = (tab?: string) =>
    to({ name: 'function', params: { ...params.value, function: f.label, tab }, query: query.value })
  const go: Record<Schemas['SearchResult']['kind'], () => unknown> = {
    function: at(),
    version: to({ name: 'version', params: { ...params.value, version: f.version } }),
    commit: to({ name: 'versions', params: params.value, query: { ...query.value, find: f.hash } }),
    file: to({ name: 'source', params: params.value, query: { ...query.value, file: f.file } }),
    setting: to({ name: 'source', params: params.value, query: { ...query.value, file: 'rudmar.yaml' } }),
    secret: to({ name: 'plan', params: params.value, query: { stage: f.stage } }),
    diagnostic: to({ name: 'doc', params: { name: 'diagnostics' }, hash: `#${f.label.toLowerCase()}` }),
  }
  const entry = { label: f.label, kind: f.kind, about: f.description, go: go[f.kind] }
  return f.kind === 'function' ? [entry, { label: `Logs of ${f.label}`, kind: 'action', go: at('logs') }] : [entry]
}

const entries = computed(() => {
  const words = text.value.toLowerCase().trim().split(/\s+/)
  const holds = (e: Entry) => words.every((w) => `${e.label} ${e.kind} ${e.about ?? ''}`.toLowerCase().includes(w))
  const named = (e: Entry) => Number(!e.label.toLowerCase().startsWith(words[0] ?? ''))
  const isFunction = (f: Schemas['SearchResult']) => f.kind === 'function'
  const ordered = [...near.value, ...found.value.filter(isFunction).flatMap(far)]
    .filter(holds)
    .sort((a, b) => named(a) - named(b))
  const documentsLast = [
    ...ordered.filter((e) => e.kind !== 'document').slice(0, 12),
    ...found.value.filter((f) => !isFunction(f)).flatMap(far),
    ...ordered.filter((e) => e.kind === 'document').slice(0, 6),
  ]
  return documentsLast.slice(0, 24)
})

let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined
/** Whether the server's results are pending. */
const asking = ref(false)
/** Whether the user pressed Enter before they arrived. */
let wanted = false
watch(text, (words) => {
  at.value = 0
  wanted = false
  clearTimeout(timer)
  const mine = ++asked
  asking.value = Boolean(words.trim())
  if (!asking.value) {
    found.value = []
    return
  }
  timer = setTimeout(async () => {
    const got = await ask(
      client.GET('/services/{service}/search', { params: { path: params.value, query: { text: words.trim() } } }),
    ).catch(() => []) // the page itself reports an unreachable server
    if (mine !== asked) return
    found.value = got
    asking.value = false
    if (wanted) choose(entries.value[0])
  }, 150)
})

// The browser's own dialog is open, with the cursor in its field, before the next key
// is typed, so no key is lost.
watch(
  shown,
  (open) => {
    wanted = false
    if (!open) return box.value?.close()
    text.value = ''
    found.value = []
    box.value?.showModal()
    input.value?.focus()
    void opened()
  },
  { flush: 'sync' },
)
async function opened(): Promise<void> {
  if (documents.value.length === 0) documents.value = await ask(client.GET('/docs')).catch(() => [])
}

/** Selects the marked entry; the first result, if results are pending. */
function enter(): void {
  if (asking.value && at.value === 0) wanted = true
  else choose(entries.value[at.value])
}
function choose(e: Entry | undefined): void {
  wanted = false
  if (!e) return
  shown.value = false
  void e.go()
}
function step(by: number): void {
  at.value = Math.max(0, Math.min(at.value + by, entries.value.length - 1))
  document.getElementById(`found-${at.value}`)?.scrollIntoView({ block: 'nearest' })
}
</script>

<template>
  <dialog ref="box" class="find" aria-label="Search" @close="shown = false" @click.self="shown = false">
    <input
      id="search-box"
      ref="input"
      v-model="text"
      class="form-control"
      placeholder="Search functions, versions, files, pages and actions"
      aria-label="Search"
      role="combobox"
      autocomplete="off"
      aria-expanded="true"
      aria-controls="found"
      :aria-activedescendant="entries.length ? `found-${at}` : undefined"
      @keydown.down.prevent="step(1)"
      @keydown.up.prevent="step(-1)"
      @keydown.enter.prevent="enter"
    />
    <ul v-if="entries.length" id="found" class="list" role="listbox" aria-label="Results">
      <li
        v-for="(e, i) in entries"
        :id="`found-${i}`"
        :key="`${e.kind} ${e.label} ${e.about}`"
        role="option"
        :aria-selected="i === at"
        :class="{ at: i === at }"
        @click="choose(e)"
        @pointermove="at = i"
      >
        <span class="clip"
          >{{ e.label }} <span v-if="e.about" class="quiet">{{ e.about }}</span></span
        >
        <span class="quiet kind">{{ e.kind }}</span>
      </li>
    </ul>
    <p v-else id="found" class="quiet p-2 mb-0" role="status">{{ asking ? 'Searching…' : 'No results' }}</p>
  </dialog>
</template>

<style scoped>
.find {
  width: min(38rem, calc(100vw - 1.5rem));
  margin-top: 4rem;
  padding: 1rem;
  border: 1px solid var(--rule);
  border-radius: 4px;
  background: var(--surface);
  color: var(--ink);
}
.find::backdrop {
  background: rgb(0 0 0 / 45%);
}
.list {
  list-style: none;
  margin: 0.5rem 0 0;
  padding: 0;
  max-height: 60vh;
  overflow: auto;
}
.list li {
  display: flex;
  justify-content: space-between;
  gap: 1rem;
  padding: 0.3rem 0.5rem;
  cursor: pointer;
}
.list li.at {
  background: var(--wash);
}
.kind {
  flex: none;
}
</style>
