<script setup lang="ts">
import type { Problem } from '../api/client'

defineProps<{ problem: Problem | null }>()
</script>

<template>
  <div v-if="problem" class="note" role="alert">
    <strong>{{ problem.status === 0 ? 'No answer.' : problem.status >= 500 ? 'Not possible right now.' : 'Not done.' }}</strong>
    {{ problem.message }}
    <slot />
  </div>
</template>

<style scoped>
.note {
  border-left: 3px solid var(--clay);
  background: color-mix(in srgb, var(--clay) 9%, var(--surface));
  padding: 0.5rem 0.8rem;
  margin-bottom: 0.7rem;
  overflow-wrap: anywhere;
}
</style>
