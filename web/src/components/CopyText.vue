<script setup lang="ts">
import { computed, ref } from 'vue'

const props = defineProps<{ text: string; label?: string; quiet?: boolean }>()
const said = ref('')
/** An address breaks after a slash, not within a word. */
const parts = computed(() => (props.label ?? props.text).split(/(?<=[/?&])(?!\/)/))

async function copy(): Promise<void> {
  try {
    await navigator.clipboard.writeText(props.text)
    said.value = 'copied'
  } catch {
    said.value = 'select and copy'
  }
  setTimeout(() => (said.value = ''), 1500)
}
</script>

<template>
  <span class="copy">
    <code :class="{ quiet }"
      ><template v-for="(part, i) in parts" :key="i">{{ part }}<wbr /></template
    ></code>
    <button type="button" class="plain" :title="`Copy ${text}`" :aria-label="`Copy ${text}`" @click.stop="copy">
      {{ said || 'copy' }}
    </button>
    <span class="visually-hidden" role="status">{{ said }}</span>
  </span>
</template>

<style scoped>
.copy {
  display: inline-flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0 0.5rem;
  max-width: 100%;
}
code {
  overflow-wrap: anywhere;
  min-width: 0;
}
.plain {
  border: 0;
  background: none;
  padding: 0.1rem 0.2rem;
  min-width: 1.5rem;
  min-height: 1.5rem;
  color: var(--spruce);
  font-size: 0.8125rem;
  text-decoration: underline;
}
</style>
