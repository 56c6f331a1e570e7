import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'

/** The stage line of the service in view. */
export const useLine = defineStore('line', () => {
  const line = ref<Schemas['StageLine'] | null>(null)
  const stages = computed(() => line.value?.stages.map((s) => s.stage) ?? [])
  return { line, stages }
})
