<script setup lang="ts">
// The kind of a change as a pair of cells, before and after, with its name.
import { computed } from 'vue'

const props = defineProps<{ change: string; wordless?: boolean }>()

type Cell = 'empty' | 'full' | 'half' | 'lozenge' | 'hatched'
const forms: Record<string, [Cell, Cell]> = {
  create: ['empty', 'full'],
  update: ['full', 'half'],
  replace: ['full', 'lozenge'],
  delete: ['full', 'empty'],
  adopt: ['hatched', 'half'],
  restore: ['hatched', 'full'],
  unchanged: ['full', 'full'],
}
const cells = computed<[Cell, Cell]>(() => forms[props.change] ?? ['empty', 'empty'])
const drifted = computed(() => props.change === 'restore' || props.change === 'adopt')
</script>

<template>
  <span class="pair" :class="{ drift: drifted, bad: change === 'delete' }">
    <svg width="27" height="12" viewBox="0 0 27 12" aria-hidden="true">
      <g v-for="(cell, i) in cells" :key="i" :transform="`translate(${i * 15} 0)`">
        <path v-if="cell === 'lozenge'" d="M6 .5 11.5 6 6 11.5 .5 6Z" fill="currentColor" />
        <template v-else>
          <rect x="1" y="1" width="10" height="10" fill="none" stroke="currentColor" />
          <rect v-if="cell === 'full'" x="1" y="1" width="10" height="10" fill="currentColor" />
          <path v-if="cell === 'half'" d="M1 11 11 1V11Z" fill="currentColor" />
          <path v-if="cell === 'hatched'" d="M1 5 5 1M1 9 9 1M3 11 11 3M7 11 11 7" stroke="currentColor" fill="none" />
        </template>
      </g>
    </svg>
    <span :class="{ 'visually-hidden': wordless }">{{ change }}</span>
  </span>
</template>

<style scoped>
.pair {
  display: inline-flex;
  align-items: center;
  gap: 0.4rem;
  white-space: nowrap;
}
</style>
