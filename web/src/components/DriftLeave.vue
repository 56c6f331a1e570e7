<script setup lang="ts">
// Leaving what was changed by hand: who left it and why, or the way to leave it.
import { ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { exact } from '../words'

const props = defineProps<{ left?: Schemas['DriftLeft']; busy: boolean; may: boolean }>()
const emit = defineEmits<{ leave: [reason: string, until?: number]; end: [] }>()
const open = ref(false)
const reason = ref('')
const until = ref('')

// Once it is left the form has done its work.
watch(
  () => props.left,
  (left) => {
    if (left) open.value = false
  },
)

function leave(): void {
  emit('leave', reason.value, until.value ? new Date(`${until.value}T00:00`).getTime() : undefined)
}
</script>

<template>
  <template v-if="left">
    left by {{ left.person }}<template v-if="left.until"> until {{ exact(left.until).slice(0, 10) }}</template
    >: {{ left.reason }}
    <button type="button" class="btn btn-link p-0 ms-2" :disabled="busy || !may" @click="$emit('end')">
      No longer
    </button>
  </template>
  <template v-else-if="may">
    <button type="button" class="btn btn-link p-0" @click="open = true">Leave it…</button>
    <form v-if="open" class="leave" @submit.prevent="leave">
      <input v-model="reason" class="form-control form-control-sm" required placeholder="why" aria-label="Why" />
      <label class="small"
        >until <input v-model="until" type="date" class="form-control form-control-sm" />
        <span class="quiet">or for good, as a notice</span></label
      >
      <button class="btn btn-sm btn-primary" :disabled="busy">Leave it</button>
    </form>
  </template>
</template>

<style scoped>
.leave {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  align-items: end;
  margin-top: 0.3rem;
}
</style>
