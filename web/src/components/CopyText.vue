<script setup lang="ts">
import { ref } from 'vue'

const props = defineProps<{ text: string; label?: string }>()
const said = ref('copy')

async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(props.text)
    said.value = 'copied'
  } catch {
    said.value = 'mark it and copy'
  }
  setTimeout(() => (said.value = 'copy'), 1500)
}
</script>

<template>
  <span class="copy">
    <code class="wrap-anywhere">{{ label ?? text }}</code>
    <button type="button" class="plain" :title="`Copy ${text}`" @click="copy">{{ said }}</button>
  </span>
</template>

<style scoped>
.copy {
  display: inline-flex;
  align-items: baseline;
  gap: 0.5rem;
}
.plain {
  border: 0;
  background: none;
  padding: 0;
  color: var(--spruce);
  font-size: 0.8125rem;
  text-decoration: underline;
}
</style>
