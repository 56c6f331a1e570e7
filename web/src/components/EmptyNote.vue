<script setup lang="ts">
defineProps<{ title: string; command?: string }>()
</script>

<template>
  <div class="empty sheet">
    <h2>{{ title }}</h2>
    <p class="quiet mb-2"><slot /></p>
    <CopyText v-if="command" :text="command" />
  </div>
</template>

<style scoped>
.empty {
  padding: 1.5rem;
  max-width: 46rem;
}
</style>
