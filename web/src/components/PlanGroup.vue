<script setup lang="ts">
// Steps of a plan under one heading; of very many the first.
import type { Schemas } from '../api/client'
import { useFold } from '../composables/useFold'

const props = defineProps<{ title: string; steps: Schemas['Step'][]; withWave?: boolean; authors?: Record<string, Schemas['FileCommit']> }>()
const { shown, more, unfold } = useFold(() => props.steps, 40)
</script>

<template>
  <div class="sheet group">
    <h2 class="sheet-pad">{{ title }}</h2>
    <PlanStep v-for="s in shown" :key="s.index" :step="s" :authors="authors" :with-wave="withWave" />
    <p v-if="more" class="sheet-pad mb-0"><button type="button" class="btn btn-link p-0" @click="unfold">{{ more }} more steps</button></p>
  </div>
</template>

<style scoped>
.group {
  margin-bottom: 0.8rem;
}
.group h2 {
  margin: 0;
  border-bottom: 1px solid var(--rule);
  padding-block: 0.4rem;
}
</style>
