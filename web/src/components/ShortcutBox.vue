<script setup lang="ts">
import { shortcuts } from '../composables/useShortcuts'
import GlossaryTerm from './GlossaryTerm.vue'

const shown = defineModel<boolean>({ required: true })
</script>

<template>
  <BModal v-model="shown" title-tag="h2" title="Keyboard shortcuts" no-footer>
    <dl>
      <template v-for="s in shortcuts" :key="s.keys">
        <dt>
          <kbd>{{ s.keys }}</kbd>
        </dt>
        <dd>{{ s.does }} <GlossaryTerm v-if="s.term" :term="s.term" /></dd>
      </template>
    </dl>
  </BModal>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: auto 1fr;
  gap: 0.3rem 1rem;
  margin: 0;
}
dd {
  margin: 0;
}
kbd {
  background: var(--wash);
  color: var(--ink);
  white-space: nowrap;
}
</style>
