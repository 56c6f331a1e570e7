<script setup lang="ts">
// What a plan means, worst first, as the server says it.
import { computed } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{ says: Schemas['PlanLine'][] }>()

/** Lines of one kind and weight, each run of them folded where it is long. */
const groups = computed(() => [...Map.groupBy(props.says, (l) => `${l.tone} ${l.kind}`).values()])
</script>

<template>
  <ul class="sheet list">
    <ConsequenceLines v-for="g in groups" :key="`${g[0]?.tone} ${g[0]?.kind}`" :lines="g" />
    <li v-if="says.length === 0" class="quiet">
      No impact detected: no change of access, routes or stored data.
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
