<script setup lang="ts">
import type { Problem } from '../api/client'

defineProps<{
  problem: Problem | null
  /** Repeats the failed request. */
  again?: () => unknown
}>()
</script>

<template>
  <BAlert v-if="problem" :model-value="true" variant="danger" class="note" no-animation>
    <strong>{{
      problem.status === 0
        ? 'Server unreachable.'
        : problem.status >= 500
          ? 'Temporarily unavailable.'
          : 'Request failed.'
    }}</strong>
    {{ problem.message }}
    <button v-if="again" type="button" class="btn btn-link p-0 ms-1 align-baseline" @click="again()">Retry</button>
    <RouterLink v-if="problem.type.startsWith('/docs/')" class="quiet small ms-1" :to="problem.type"
      >More about this error</RouterLink
    >
    <slot />
  </BAlert>
</template>

<style scoped>
.note {
  border: 0;
  border-left: 3px solid var(--clay);
  background: color-mix(in srgb, var(--clay) 9%, var(--surface));
  padding: 0.5rem 0.8rem;
  margin-bottom: 0.7rem;
  color: inherit;
  overflow-wrap: anywhere;
}
</style>
