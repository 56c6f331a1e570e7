<script setup lang="ts">
// Asks for a name to be typed before something is done that cannot be taken back, or that opens something.
import { ref, watch } from 'vue'

import type { Problem } from '../api/client'

const props = defineProps<{
  title: string
  /** What has to be typed. */
  word: string
  /** What the button says. */
  action: string
  busy: boolean
  /** Why it was not done. */
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
