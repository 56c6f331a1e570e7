<script setup lang="ts">
// Asks what to do with an uncommitted edit.
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
    title="Uncommitted edit"
    no-footer
    no-animation
    @update:model-value="(open: boolean) => !open && say('stay')"
  >
    <p>{{ what }} changed. A draft stays in this browser and is offered when you return.</p>
    <div class="d-flex flex-wrap gap-2">
      <button type="button" class="btn btn-primary" autofocus @click="say('stay')">Continue editing</button>
      <button type="button" class="btn btn-outline-secondary" @click="say('keep')">Leave and keep draft</button>
      <button type="button" class="btn btn-outline-danger" @click="say('drop')">Leave and discard edit</button>
    </div>
  </BModal>
</template>
