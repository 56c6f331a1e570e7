<script setup lang="ts">
// The files of a service by folder, with edits and the number of problems
// of each. A large service shows only open or matching folders.
import { computed, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { count } from '../words'

const props = defineProps<{
  committed: Schemas['SourceFile'][]
  edits: Map<string, string | null>
  diagnostics: Schemas['Diagnostic'][]
  file: string
}>()
const emit = defineEmits<{ open: [file: string] }>()

/** From this number on, folders start closed. */
const many = 12
const wanted = ref('')
const opened = ref(new Set<string>())

interface Row {
  path: string
  name: string
  mark: string
}
const problems = computed(() => {
  const out = new Map<string, number>()
  for (const d of props.diagnostics) out.set(d.file, (out.get(d.file) ?? 0) + 1)
  return out
})
function folderOf(path: string): string {
  return /^functions\/[^/]+(?=\/)/.exec(path)?.[0] ?? ''
}
const folders = computed(() => {
  const there = new Set(props.committed.map((f) => f.path))
  const groups = new Map<string, Row[]>()
  const all = [...there, ...[...props.edits.keys()].filter((p) => !there.has(p))].sort((a, b) => a.localeCompare(b))
  for (const path of all) {
    const folder = folderOf(path)
    const mark = !props.edits.has(path)
      ? ''
      : props.edits.get(path) === null
        ? 'deleted'
        : there.has(path)
          ? 'edited'
          : 'new'
    if (!groups.has(folder)) groups.set(folder, [])
    groups.get(folder)?.push({ path, name: folder ? path.slice(folder.length + 1) : path, mark })
  }
  return [...groups]
    .map(([folder, files]) => ({
      folder,
      files,
      problems: files.reduce((n, f) => n + (problems.value.get(f.path) ?? 0), 0),
    }))
    .sort((a, b) => a.folder.localeCompare(b.folder))
})
const shown = computed(() => {
  const word = wanted.value.trim().toLowerCase()
  if (!word) return folders.value
  return folders.value
    .map((g) => ({
      ...g,
      files: g.folder.toLowerCase().includes(word)
        ? g.files
        : g.files.filter((f) => f.path.toLowerCase().includes(word)),
    }))
    .filter((g) => g.files.length > 0)
})
function isOpen(folder: string): boolean {
  return (
    folders.value.length <= many ||
    folder === '' ||
    opened.value.has(folder) ||
    (wanted.value !== '' && shown.value.length <= many)
  )
}
function toggle(folder: string): void {
  const next = new Set(opened.value)
  if (!next.delete(folder)) next.add(folder)
  opened.value = next
}
watch(
  () => props.file,
  (file) => {
    if (folderOf(file)) opened.value = new Set(opened.value).add(folderOf(file))
  },
  { immediate: true },
)
</script>

<template>
  <div>
    <div v-if="folders.length > many" class="px-2 pb-1">
      <input v-model="wanted" class="form-control" type="search" placeholder="Filter files" aria-label="Filter files" />
    </div>
    <template v-for="g in shown" :key="g.folder">
      <button
        v-if="g.folder && folders.length > many"
        type="button"
        class="folder"
        :aria-expanded="isOpen(g.folder)"
        @click="toggle(g.folder)"
      >
        <span class="clip" :title="g.folder"
          >{{ isOpen(g.folder) ? '▾' : '▸' }} {{ g.folder.slice('functions/'.length) }}</span
        >
        <span v-if="g.problems" class="bad">{{ g.problems }}</span>
      </button>
      <p v-else-if="g.folder" class="folder clip" :title="g.folder">{{ g.folder }}</p>
      <template v-if="isOpen(g.folder)">
        <button
          v-for="f in g.files"
          :key="f.path"
          type="button"
          class="file"
          :class="{ at: f.path === file, inside: g.folder }"
          :aria-current="f.path === file || undefined"
          @click="emit('open', f.path)"
        >
          <span class="clip" :title="f.path">{{ f.name }}</span>
          <span v-if="f.mark" class="move">{{ f.mark }}</span>
          <span v-if="problems.get(f.path)" class="bad">{{ count(problems.get(f.path) ?? 0, 'problem') }}</span>
        </button>
      </template>
    </template>
    <p v-if="shown.length === 0" class="quiet px-2">No matching files.</p>
  </div>
</template>

<style scoped>
.file,
.folder {
  display: flex;
  justify-content: space-between;
  gap: 0.4rem;
  width: 100%;
  border: 0;
  background: none;
  color: inherit;
  text-align: left;
  padding: 0.12rem 0.7rem;
  font-size: 0.8125rem;
}
.file.inside {
  padding-left: 1.3rem;
}
.folder {
  margin: 0.15rem 0 0;
  color: var(--quiet);
}
.file span + span,
.folder span + span {
  flex: none;
}
.file:hover,
button.folder:hover {
  background: var(--wash);
}
.file.at {
  background: color-mix(in srgb, var(--fjord) 14%, transparent);
}
</style>
