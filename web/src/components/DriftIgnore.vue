<script setup lang="ts">
// Ignoring drift: who ignores it and why, or the form.
import { ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { exact } from '../words'

const props = defineProps<{ left?: Schemas['IgnoredDrift']; busy: boolean; may: boolean }>()
const emit = defineEmits<{ leave: [reason: string, until?: number]; end: [] }>()
const open = ref(false)
const reason = ref('')
const until = ref('')

// Once the drift is ignored the form closes.
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
    ignored by {{ left.person }}<template v-if="left.until"> until {{ exact(left.until).slice(0, 10) }}</template
    >: {{ left.reason }}
    <button type="button" class="btn btn-link p-0 ms-2" :disabled="busy || !may" @click="$emit('end')">
      Stop ignoring
    </button>
  </template>
  <template v-else-if="may">
    <button type="button" class="btn btn-link p-0" @click="open = true">Ignore until…</button>
    <form v-if="open" class="leave" @submit.prevent="leave">
      <input v-model="reason" class="form-control form-control-sm" required placeholder="Reason" aria-label="Reason" />
      <label class="small"
        >Until <input v-model="until" type="date" class="form-control form-control-sm" />
        <span class="quiet">or forever</span></label
      >
      <button class="btn btn-sm btn-primary" :disabled="busy">Ignore drift</button>
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
