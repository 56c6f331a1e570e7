<script setup lang="ts">
// What the manifests become in the focused stage: resources and values, each
// linked to the line that it came from.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { origin, value } from '../words'

const props = defineProps<{ becomes: Schemas['Becomes'][]; stage: string; file: string; line: number }>()
const emit = defineEmits<{ open: [file: string, line: number] }>()

function touches(o: Schemas['Origin']): boolean {
  return o.file === props.file && o.line === props.line
}
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
    <div v-for="b in shown" :key="b.address" class="sheet resource">
      <code class="address">{{ b.address }}</code>
      <div v-for="a in b.attributes" :key="a.name" class="attribute" :class="{ lit: touches(a.from) || a.through?.some(touches) }">
        <span class="quiet">{{ a.name }}</span>
        <span class="wrap-anywhere">{{ value(a.value, a.unit) }}</span>
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
