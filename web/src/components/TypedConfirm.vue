<script setup lang="ts">
// Asks for a typed name before an action that cannot be undone, or that widens access.
import { ref, watch } from 'vue'

import type { Problem } from '../api/client'

const props = defineProps<{
  title: string
  /** The name to type. */
  word: string
  /** The label of the button. */
  action: string
  busy: boolean
  /** The error. */
  problem: Problem | null
}>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ confirm: [typed: string] }>()
const typed = ref('')
watch(open, () => (typed.value = ''))

function confirm(): void {
  if (!props.busy && typed.value === props.word) emit('confirm', typed.value)
}
</script>

<template>
  <BModal v-model="open" title-tag="h2" :title="title" focus="input" no-footer no-animation lazy unmount-lazy>
    <form @submit.prevent="confirm">
      <ProblemNote :problem="problem" />
      <div class="mb-2 wrap-anywhere"><slot /></div>
      <label class="d-block mb-3"
        >Type <strong>{{ word }}</strong> to confirm:
        <input v-model="typed" class="form-control mt-1" autocomplete="off" />
      </label>
      <button class="btn btn-danger me-2" :disabled="busy || typed !== word">{{ action }}</button>
      <button type="button" class="btn btn-outline-secondary" @click="open = false">Cancel</button>
    </form>
  </BModal>
</template>
