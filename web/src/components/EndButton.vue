<script setup lang="ts">
// Revokes or deletes something permanently, after a second click.
import { ref } from 'vue'

const { verb = 'Delete' } = defineProps<{ what: string; busy: boolean; verb?: string }>()
const emit = defineEmits<{ end: [] }>()
const sure = ref(false)
</script>

<template>
  <template v-if="sure">
    <button type="button" class="btn btn-sm btn-outline-danger me-2" :disabled="busy" @click="emit('end')">
      {{ verb }}
    </button>
    <button type="button" class="btn btn-sm btn-outline-secondary" @click="sure = false">Cancel</button>
  </template>
  <button
    v-else
    type="button"
    class="btn btn-sm btn-outline-secondary"
    :aria-label="`${verb} ${what}`"
    @click="sure = true"
  >
    {{ verb }}…
  </button>
</template>
