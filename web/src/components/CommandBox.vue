<script setup lang="ts">
// Search and commands: pages, functions, stages, versions, by typing a few letters.
import { computed, nextTick, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { pages } from '../router'
import { useLine } from '../stores/line'

const shown = defineModel<boolean>({ required: true })
const router = useRouter()
const line = useLine()
const { service, stage, focus } = useFocus()
const text = ref('')
const at = ref(0)
const functions = ref<string[]>([])
const input = ref<HTMLInputElement | null>(null)

interface Entry {
  label: string
  kind: string
  go: () => void
}

const entries = computed<Entry[]>(() => {
  const query = { stage: stage.value || undefined }
  const all: Entry[] = [
    ...pages.map((p) => ({ label: p.label, kind: 'page', go: () => void router.push({ name: p.name, params: { service: service.value }, query }) })),
    ...line.stages.map((s) => ({ label: s, kind: 'look at stage', go: () => focus(s) })),
    ...line.stages.map((s) => ({ label: `Plan ${s}`, kind: 'make a plan', go: () => void router.push({ name: 'plan', params: { service: service.value }, query: { stage: s } }) })),
    ...functions.value.map((f) => ({ label: f, kind: 'function', go: () => void router.push({ name: 'function', params: { service: service.value, function: f }, query }) })),
  ]
  const words = text.value.toLowerCase().split(/\s+/)
  return all.filter((e) => words.every((w) => `${e.label} ${e.kind}`.toLowerCase().includes(w))).slice(0, 12)
})

watch(text, () => (at.value = 0))
watch(shown, async (open) => {
  if (!open) return
  text.value = ''
  await nextTick()
  input.value?.focus()
  try {
    const board = await ask(client.GET('/services/{service}/board', { params: { path: { service: service.value } } }))
    functions.value = board.rows.map((r) => r.function)
  } catch {
    functions.value = [] // the page itself says that there is no answer
  }
})

function choose(e: Entry | undefined): void {
  if (!e) return
  shown.value = false
  e.go()
}
</script>

<template>
  <BModal v-model="shown" no-footer no-header aria-label="Search and commands">
    <input ref="input" v-model="text" class="form-control" placeholder="A page, a stage, a function…" aria-label="Search"
      @keydown.down.prevent="at = Math.min(at + 1, entries.length - 1)" @keydown.up.prevent="at = Math.max(at - 1, 0)" @keydown.enter.prevent="choose(entries[at])" />
    <ul class="list">
      <li v-for="(e, i) in entries" :key="e.kind + e.label">
        <button type="button" :class="{ at: i === at }" @click="choose(e)">
          {{ e.label }} <span class="quiet">{{ e.kind }}</span>
        </button>
      </li>
      <li v-if="entries.length === 0" class="quiet p-2">nothing of that name</li>
    </ul>
  </BModal>
</template>

<style scoped>
.list {
  list-style: none;
  margin: 0.5rem 0 0;
  padding: 0;
}
.list button {
  width: 100%;
  display: flex;
  justify-content: space-between;
  border: 0;
  background: none;
  color: inherit;
  padding: 0.25rem 0.5rem;
  text-align: left;
}
.list button.at,
.list button:hover {
  background: var(--wash);
}
</style>
