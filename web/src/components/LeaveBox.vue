<script setup lang="ts">
// Asks what becomes of an edit that somebody is about to leave.
import type { Leaving } from '../composables/useDraft'

const props = defineProps<{ answer: ((a: Leaving) => void) | null; what: string }>()
function say(a: Leaving): void {
  props.answer?.(a)
}
</script>

<template>
  <BModal
    :model-value="!!answer"
    title-tag="h2"
    title="Your edit is not committed"
    no-footer
    no-animation
    @update:model-value="(open: boolean) => !open && say('stay')"
  >
    <p>{{ what }} changed. Kept as a draft, the edit stays in this browser and is offered when you come back.</p>
    <div class="d-flex flex-wrap gap-2">
      <button type="button" class="btn btn-primary" autofocus @click="say('stay')">Stay here</button>
      <button type="button" class="btn btn-outline-secondary" @click="say('keep')">Leave, keep the draft</button>
      <button type="button" class="btn btn-outline-danger" @click="say('drop')">Leave, drop the edit</button>
    </div>
  </BModal>
</template>
