<script setup lang="ts">
// The impact of a plan, most severe first.
import { computed } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{ lines: Schemas['ImpactLine'][] }>()

/** Lines of one kind and severity; long runs are folded. */
const groups = computed(() => [...Map.groupBy(props.lines, (l) => `${l.severity} ${l.kind}`).values()])
</script>

<template>
  <ul class="sheet list">
    <ImpactLines v-for="g in groups" :key="`${g[0]?.severity} ${g[0]?.kind}`" :lines="g" />
    <li v-if="lines.length === 0" class="quiet">No impact detected: no change of access, routes or stored data.</li>
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
