<script setup lang="ts">
// A state in words, with a mark whose form differs as well as its color.
import { computed } from 'vue'

import { stateText, tone } from '../words'

const props = defineProps<{ state: string }>()
const kind = computed(() => tone(props.state))
</script>

<template>
  <span class="state" :class="kind">
    <svg width="10" height="10" viewBox="0 0 10 10" aria-hidden="true">
      <circle v-if="kind === 'good'" cx="5" cy="5" r="4" fill="currentColor" />
      <path v-else-if="kind === 'bad'" d="M5 .5 9.5 9.5H.5Z" fill="currentColor" />
      <circle v-else-if="kind === 'wait'" cx="5" cy="5" r="3.5" fill="none" stroke="currentColor" stroke-width="2" />
      <path v-else-if="kind === 'move'" d="M1 1 9 5 1 9Z" fill="currentColor" />
      <path v-else d="M1 5h8" stroke="currentColor" stroke-width="2" />
    </svg>
    {{ stateText(state) }}
  </span>
</template>

<style scoped>
.state {
  display: inline-flex;
  align-items: center;
  gap: 0.35rem;
  white-space: nowrap;
}
</style>
