<script setup lang="ts">
import type { Schemas } from '../api/client'
import { exact } from '../words'

defineProps<{ left: Schemas['DriftLeft']; busy: boolean }>()
defineEmits<{ end: [] }>()
</script>

<template>
  left by {{ left.person }}<template v-if="left.until"> until {{ exact(left.until).slice(0, 10) }}</template
  >: {{ left.reason }}
  <button type="button" class="btn btn-link p-0 ms-2" :disabled="busy" @click="$emit('end')">No longer</button>
</template>
