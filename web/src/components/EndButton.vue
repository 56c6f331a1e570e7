<script setup lang="ts">
// Ends what cannot be taken up again, after asking once more.
import { ref } from 'vue'

defineProps<{ what: string; busy: boolean }>()
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
