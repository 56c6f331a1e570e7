<script setup lang="ts">
// Asks for confirmation: of an action that cannot be undone, or that widens access, by a typed name; of a rollback
// with a reason.
import { computed, ref, watch } from 'vue'

import type { Problem } from '../api/client'

const props = defineProps<{
  title: string
  /** The name to type; none for an action that needs no typed name. */
  word?: string
  /** Whether a reason is required. */
  reasoned?: boolean
  /** The label of the button. */
  action: string
  busy: boolean
  /** The error. */
  problem: Problem | null
}>()
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ confirm: [typed: string, reason: string] }>()
const typed = ref('')
const reason = ref('')
watch(open, () => {
  typed.value = ''
  reason.value = ''
})
const complete = computed(
  () => !props.busy && (!props.word || typed.value === props.word) && (!props.reasoned || !!reason.value.trim()),
)

function confirm(): void {
  if (complete.value) emit('confirm', typed.value, reason.value)
}
</script>

<template>
  <BModal v-model="open" title-tag="h2" :title="title" focus="input" no-footer no-animation lazy unmount-lazy>
    <form @submit.prevent="confirm">
      <ProblemNote :problem="problem" />
      <div class="mb-2 wrap-anywhere"><slot /></div>
      <label v-if="reasoned" class="d-block mb-3"
        >Reason
        <input v-model="reason" class="form-control mt-1" autocomplete="off" />
      </label>
      <label v-if="word" class="d-block mb-3"
        >Type <strong>{{ word }}</strong> to confirm:
        <input v-model="typed" class="form-control mt-1" autocomplete="off" />
      </label>
      <button class="btn btn-danger me-2" :disabled="!complete">{{ action }}</button>
      <button type="button" class="btn btn-outline-secondary" @click="open = false">Cancel</button>
    </form>
  </BModal>
</template>
