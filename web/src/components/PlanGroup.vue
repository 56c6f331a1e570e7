<script setup lang="ts">
// Steps of a plan under one heading; of many the first. A step that another one
// of the group causes is folded under it: nobody decides by a pointer.
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useFold } from '../composables/useFold'
import { useRows } from '../composables/useRows'
import { count } from '../words'

const props = defineProps<{
  title: string
  steps: Schemas['Step'][]
  /** The steps belong to one function: dependent ones are folded. */
  folded?: boolean
  withPhase?: boolean
  authors?: Record<string, Schemas['FileCommit']>
}>()

/** A step that another one of the group causes, without information of its own. */
const heads = computed(() => new Set(props.steps.map((s) => s.address)))
const follows = (s: Schemas['Step']): boolean => !!props.folded && !!s.follows && heads.value.has(s.follows)
const main = computed(() => props.steps.filter((s) => !follows(s)))
const rest = computed(() => props.steps.filter(follows))
const { shown, more, unfold } = useFold(() => main.value, 40)
const box = ref<HTMLElement | null>(null)
const { inView, before, after, measure } = useRows(() => shown.value, 84, box)
/** Common parts of a group are shown once. */
const common = computed(() => {
  const texts = new Set(props.steps.map((s) => s.because.map((c) => c.text).join()))
  return texts.size === 1 && props.steps.length > 1 ? (props.steps[0]?.because[0]?.text ?? '') : ''
})
</script>

<template>
  <div class="sheet group">
    <h2 class="sheet-pad">
      {{ title }} <span v-if="common" class="quiet fw-normal">{{ common }}</span>
    </h2>
    <div ref="box">
      <div v-if="before" aria-hidden="true" :style="{ height: `${before}px` }" />
      <div v-for="{ row: s, index } in inView" :key="s.index" :ref="measure" class="one" :data-index="index">
        <PlanStep
          :step="s"
          :authors="authors"
          :with-phase="withPhase"
          :plain="!!common && s.index !== shown[0]?.index"
        />
      </div>
      <div v-if="after" aria-hidden="true" :style="{ height: `${after}px` }" />
    </div>
    <p v-if="more" class="sheet-pad mb-0">
      <button type="button" class="btn btn-link p-0" @click="unfold">Show {{ more }} more steps</button>
    </p>
    <details v-if="rest.length">
      <summary class="quiet">
        {{ count(rest.length, 'dependent step') }}: {{ rest.map((s) => s.kind).join(', ') }}
      </summary>
      <PlanStep v-for="s in rest" :key="s.index" :step="s" :authors="authors" :with-phase="withPhase" />
    </details>
  </div>
</template>

<style scoped>
.one:not(:last-child) {
  border-bottom: 1px solid color-mix(in srgb, var(--rule) 60%, transparent);
}
.group h2 {
  margin: 0;
  border-bottom: 1px solid var(--rule);
  padding-block: 0.4rem;
}
summary {
  padding: 0.35rem 0.9rem;
}
</style>
