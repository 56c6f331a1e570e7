<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{ consequences: Schemas['Consequences'] }>()

/** Worst first: what is lost, what becomes public, who may reach more. */
const lines = computed(() => {
  const c = props.consequences
  return [
    ...c.removed.map((r) => ({ tone: 'bad', kind: 'lost', text: r })),
    ...c.opened.map((o) => ({ tone: o.public ? 'bad' : 'wait', kind: o.public ? 'public' : 'opened', text: `${o.route} opens to ${o.after}${o.before ? ` (now ${o.before})` : ''}` })),
    ...c.gained.map((g) => ({ tone: g.wildcard ? 'bad' : 'wait', kind: 'reach', text: `${g.function} may newly ${g.verbs.join(', ')} ${g.resource}` })),
    ...c.lost.map((g) => ({ tone: '', kind: 'reach', text: `${g.function} may no longer ${g.verbs.join(', ')} ${g.resource}` })),
    ...(c.cold.length ? [{ tone: '', kind: 'cold', text: `the next call starts cold: ${c.cold.join(', ')}` }] : []),
  ]
})
</script>

<template>
  <ul class="sheet list">
    <li v-for="l in lines" :key="l.text"><strong :class="l.tone">{{ l.kind }}</strong> {{ l.text }}</li>
    <li v-if="lines.length === 0" class="quiet">Nothing beyond the steps: nobody reaches more, nothing opens, nothing is lost.</li>
  </ul>
</template>

<style scoped>
.list {
  list-style: none;
  padding: 0.4rem 0.9rem;
  margin: 0;
}
li {
  padding: 0.2rem 0;
  overflow-wrap: anywhere;
}
</style>
