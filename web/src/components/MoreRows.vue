<script setup lang="ts">
// Loads older rows of a long list.
import { useAction } from '../composables/useAction'

const props = defineProps<{ more: boolean; older: () => Promise<void>; what: string }>()
const { busy, run } = useAction()
</script>

<template>
  <p v-if="more" class="mt-2 mb-0">
    <button type="button" class="btn btn-outline-secondary" :disabled="busy" @click="run(props.older)">
      Show older {{ what }}
    </button>
  </p>
</template>
