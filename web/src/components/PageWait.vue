<script setup lang="ts">
// The placeholder of a page's content while it loads.
defineProps<{ lines?: number }>()
</script>

<template>
  <div class="wait-lines" aria-busy="true">
    <span class="visually-hidden">Loading…</span>
    <div v-for="n in lines ?? 6" :key="n" class="bone" :style="{ width: `${94 - ((n * 17) % 40)}%` }" />
  </div>
</template>

<style scoped>
.bone {
  height: 0.9rem;
  margin-bottom: 0.7rem;
  border-radius: 3px;
  background: var(--wash);
  animation: breathe 1.6s ease-in-out infinite;
}
@keyframes breathe {
  50% {
    opacity: 0.45;
  }
}
@media (prefers-reduced-motion: reduce) {
  .bone {
    animation: none;
  }
}
</style>
