<script setup lang="ts">
// A term of Rudmar's own, with its definition on hover and focus.
import { computed } from 'vue'

import { glossary } from '../glossary'

const props = defineProps<{ term: string }>()
const definition = computed(() => {
  const text = glossary.get(props.term) ?? ''
  return text.charAt(0).toUpperCase() + text.slice(1)
})
</script>

<template>
  <BTooltip :title="definition" :delay="0" focus hover lazy teleport-to="body">
    <template #target>
      <span class="term" tabindex="0"
        ><slot>{{ term }}</slot></span
      >
    </template>
  </BTooltip>
</template>

<style scoped>
.term {
  text-decoration: underline dotted 1px;
  text-underline-offset: 0.2em;
  cursor: help;
}
</style>
