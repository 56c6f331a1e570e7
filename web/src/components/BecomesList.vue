<script setup lang="ts">
// What the manifests become in the focused stage: resources and values, each
// linked to the line that it came from.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { count, origin, value } from '../words'

const props = defineProps<{ becomes: Schemas['Becomes'][]; before: Schemas['Becomes'][]; stage: string; file: string; line: number }>()
const emit = defineEmits<{ open: [file: string, line: number] }>()

function touches(o: Schemas['Origin']): boolean {
  return o.file === props.file && o.line === props.line
}
/** The value that an attribute has without the edit; undefined where it is the same. */
const changed = computed(() => {
  const was = new Map<string, string>(props.before.flatMap((b) => b.attributes.map((a) => [`${b.address} ${a.name}`, value(a.value, a.unit)] as [string, string])))
  const out = new Map<string, string>()
  for (const b of props.becomes) {
    if (isNew(b)) continue
    for (const a of b.attributes) {
      const key = `${b.address} ${a.name}`
      const old = was.get(key)
      if (!later(b, a) && old !== value(a.value, a.unit)) out.set(key, old ?? 'absent')
    }
  }
  return out
})
/** What follows from the code, which is not built while it is edited. */
function later(b: Schemas['Becomes'], a: Schemas['BecomesAttribute']): boolean {
  return b.kind === 'pointer' || (b.kind === 'revision' && a.name !== 'configuration')
}
function isNew(b: Schemas['Becomes']): boolean {
  return !props.before.some((old) => old.address === b.address)
}
const made = computed(() => props.becomes.filter(isNew).length)
const gone = computed(() => props.before.filter((b) => !props.becomes.some((n) => n.address === b.address)).map((b) => b.address))

/** Resources of the function whose file is open; all of them for the service's own file. */
const shown = computed(() => {
  const mine = props.becomes.filter((b) => b.attributes.some((a) => a.from.file === props.file))
  const names = new Set(mine.map((b) => b.function))
  if (props.file === 'rudmar.yaml' || names.size === 0) return props.becomes
  return props.becomes.filter((b) => names.has(b.function))
})
</script>

<template>
  <section aria-label="What it becomes">
    <h2>What it becomes in {{ stage }}</h2>
    <p v-if="changed.size || made || gone.length" class="changed mb-1">
      With the edit: {{ [changed.size ? `${count(changed.size, 'value')} other` : '', made ? `${count(made, 'resource')} new` : '', gone.length ? `gone: ${gone.join(', ')}` : ''].filter(Boolean).join('; ') }}
    </p>
    <div v-for="b in shown" :key="b.address" class="sheet resource">
      <code class="address">{{ b.address }}</code> <span v-if="isNew(b)" class="changed">new</span>
      <div v-for="a in b.attributes" :key="a.name" class="attribute" :class="{ lit: touches(a.from) || a.through?.some(touches) }">
        <span class="quiet">{{ a.name }}</span>
        <span class="wrap-anywhere"><span v-if="changed.has(`${b.address} ${a.name}`)" class="changed">{{ changed.get(`${b.address} ${a.name}`) }} → </span>{{ later(b, a) ? 'known once it is built' : value(a.value, a.unit) }}</span>
        <span class="from">
          <template v-for="(o, i) in [a.from, ...(a.through ?? [])]" :key="i">
            <button v-if="o.file" type="button" :title="`${o.file}:${o.line}`" @click="emit('open', o.file ?? '', o.line ?? 1)">{{ o.file === file ? `line ${o.line}` : origin(o) }}</button>
            <span v-else-if="o.rule !== 'derived'" class="quiet">{{ origin(o) }}</span>
          </template>
        </span>
      </div>
    </div>
    <p v-if="shown.length === 0" class="quiet">Nothing yet: rudmar.yaml cannot be read, or has no stage of this name.</p>
  </section>
</template>

<style scoped>
.resource {
  padding: 0.3rem 0.6rem;
  margin-bottom: 0.4rem;
  font-size: 0.8125rem;
}
.address {
  font-weight: 500;
}
.attribute {
  display: grid;
  grid-template-columns: 6.2rem minmax(0, 1fr) auto;
  gap: 0.5rem;
}
.changed {
  color: var(--amber);
}
.attribute.lit {
  background: color-mix(in srgb, var(--fjord) 14%, transparent);
}
.from {
  text-align: right;
  max-width: 8rem;
  overflow: hidden;
}
.from button {
  border: 0;
  background: none;
  padding: 0 0 0 0.3rem;
  color: var(--fjord);
  text-decoration: underline;
  max-width: 100%;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  direction: rtl;
}
</style>
