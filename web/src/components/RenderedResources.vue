<script setup lang="ts">
// The rendered resources of the focused stage: resources and values, each
// linked to its source line.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { count, origin, value } from '../words'

const props = defineProps<{
  check: Schemas['CheckResult']
  edited: boolean
  broken: boolean
  stage: string
  file: string
  line: number
}>()
const emit = defineEmits<{ open: [file: string, line: number] }>()

function touches(o: Schemas['Origin']): boolean {
  return o.file === props.file && o.line === props.line
}
/** An attribute's value without the edit; undefined if it is the same. */
const changed = computed(() => {
  const was = new Map<string, string>(
    (props.edited ? props.check.before : props.check.rendered).flatMap((b) =>
      b.attributes.map((a) => [`${b.address} ${a.name}`, value(a.value, a.unit)] as [string, string]),
    ),
  )
  const out = new Map<string, string>()
  for (const b of props.check.rendered) {
    if (isNew(b)) continue
    for (const a of b.attributes) {
      const key = `${b.address} ${a.name}`
      const old = was.get(key)
      if (!later(b, a) && old !== value(a.value, a.unit)) out.set(key, old ?? 'absent')
    }
  }
  return out
})
/** Values that depend on the code, which is not built during edits. */
function later(b: Schemas['RenderedResource'], a: Schemas['RenderedAttribute']): boolean {
  return b.kind === 'pointer' || (b.kind === 'revision' && a.name !== 'configuration')
}
function isNew(b: Schemas['RenderedResource']): boolean {
  return props.check.effect.created.includes(b.address)
}
/** The location of a value, relative to the open file. */
function short(o: Schemas['Origin']): string {
  if (o.file === props.file) return `line ${o.line}`
  const folder = /^functions\/[^/]+\//.exec(props.file)?.[0] ?? ''
  return folder && o.file?.startsWith(folder) ? `${o.file.slice(folder.length)}:${o.line}` : origin(o)
}
/** The effect of the edit on the whole service, in words. */
const effect = computed(() => {
  const { values, created, deleted } = props.check.effect
  const some = (list: string[]) => list.slice(0, 3).join(', ') + (list.length > 3 ? ` and ${list.length - 3} more` : '')
  return [
    values ? `${count(values, 'value')} other` : '',
    created.length ? `new: ${some(created)}` : '',
    deleted.length ? `deleted: ${some(deleted)}` : '',
  ]
    .filter(Boolean)
    .join('; ')
})
</script>

<template>
  <section aria-label="Rendered resources">
    <h2>Rendered resources in {{ stage }}</h2>
    <p v-if="broken" class="wait mb-1">Incomplete: the open file has errors.</p>
    <p v-if="effect" class="changed mb-1">This edit: {{ effect }}</p>
    <div v-for="b in check.rendered" :key="b.address" class="sheet resource">
      <code class="address">{{ b.address }}</code> <span v-if="isNew(b)" class="changed">new</span>
      <div
        v-for="a in b.attributes"
        :key="a.name"
        class="attribute"
        :class="{ lit: touches(a.from) || a.through?.some(touches) }"
      >
        <span class="quiet">{{ a.name }}</span>
        <span class="wrap-anywhere"
          ><span v-if="changed.has(`${b.address} ${a.name}`)" class="changed"
            >{{ changed.get(`${b.address} ${a.name}`) }} → </span
          >{{ later(b, a) ? 'known after the build' : value(a.value, a.unit) }}</span
        >
        <span class="from">
          <template v-for="(o, i) in [a.from, ...(a.through ?? [])]" :key="i">
            <button
              v-if="o.file"
              type="button"
              :title="`${o.file}:${o.line}`"
              @click="emit('open', o.file ?? '', o.line ?? 1)"
            >
              {{ short(o) }}
            </button>
            <span v-else-if="o.rule !== 'derived'" class="quiet ms-1">{{ origin(o) }}</span>
          </template>
        </span>
      </div>
    </div>
    <p v-if="check.more" class="quiet">
      {{ count(check.more, 'more resource') }}; open a function's file to see its resources.
    </p>
    <p v-if="check.rendered.length === 0" class="quiet">
      No resources: rudmar.yaml cannot be read, or has no stage of this name.
    </p>
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
  grid-template-columns: minmax(6.6rem, max-content) minmax(0, 1fr) auto;
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
