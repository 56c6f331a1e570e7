<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { some } from '../words'

const props = defineProps<{ consequences: Schemas['Consequences']; stage: string }>()

/** Worst first: which rules it loosens, what is lost, what becomes public, who may reach more. */
const groups = computed(() => {
  const c = props.consequences
  const groups = [
    c.rules.map((r) => ({
      tone: r.loosens ? 'bad' : '',
      kind: r.loosens ? 'loosens' : 'rules',
      text: `${props.stage}: ${r.rule === 'approvals' || r.rule === 'stage' ? '' : `${r.rule} `}${r.before} → ${r.after}`,
    })),
    c.removed.map((r) => ({ tone: 'bad', kind: 'lost', text: r })),
    c.opened.map((o) => ({
      tone: o.public ? 'bad' : 'wait',
      kind: o.public ? 'public' : 'opened',
      text: `${o.route} opens to ${o.after}${o.before ? ` (now ${o.before})` : ''}${o.request === o.route ? '' : `, such as ${o.request}`}`,
    })),
    c.gained.map((g) => ({
      tone: g.wildcard ? 'bad' : 'wait',
      kind: 'reach',
      text: `${g.function} may newly ${g.verbs.join(', ')} ${g.resource}`,
    })),
    c.lost.map((g) => ({
      tone: '',
      kind: 'reach',
      text: `${g.function} may no longer ${g.verbs.join(', ')} ${g.resource}`,
    })),
    c.cold.length ? [{ tone: '', kind: 'cold', text: `the next call starts cold: ${some(c.cold)}` }] : [],
  ]
  // A long group is folded: what is bad stands before the fold.
  const bad = (l: { tone: string }): number => Number(l.tone !== 'bad')
  return groups.filter((g) => g.length > 0).map((g) => [...g].sort((a, b) => bad(a) - bad(b)))
})
</script>

<template>
  <ul class="sheet list">
    <ConsequenceLines v-for="(g, i) in groups" :key="i" :lines="g" />
    <li v-if="groups.length === 0" class="quiet">
      Nothing beyond the steps: nobody reaches more, nothing opens, nothing is lost.
    </li>
  </ul>
</template>

<style scoped>
.list {
  list-style: none;
  padding: 0.4rem 0.9rem;
  margin: 0;
}
:deep(li) {
  padding: 0.2rem 0;
  overflow-wrap: anywhere;
}
</style>
