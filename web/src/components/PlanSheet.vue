<script setup lang="ts">
// The steps of a plan, by function or in their order, each with its reasons.
import { computed, defineAsyncComponent, ref, watch } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useFold } from '../composables/useFold'
import { useRows } from '../composables/useRows'
import { useSteps } from '../composables/useSteps'
import { count } from '../words'

// The graph layout loads on demand.
const PlanGraph = defineAsyncComponent(() => import('./PlanGraph.vue'))
const props = defineProps<{
  plan: Schemas['Plan']
  /** Its number, 0 if it is not saved. */
  id: number
}>()
/** With more steps a graph is unreadable. */
const mostDrawn = 1000
const view = useAddress<'functions' | 'order' | 'graph'>('by', 'functions')

/** The authors of the lines behind the steps. */
const authors = ref<Record<string, Schemas['FileCommit']>>({})
watch(
  () => props.plan,
  async (p) => {
    authors.value = {}
    const places = [
      ...new Set(
        p.steps
          .flatMap((s) => s.because.map((c) => (c.from?.file ? `${c.from.file}:${c.from.line}` : '')))
          .filter(Boolean),
      ),
    ].slice(0, 200)
    if (places.length === 0) return
    const found = await ask(
      client.GET('/services/{service}/versions/{version}/lines', {
        params: { path: { service: p.base.service, version: p.base.version }, query: { place: places } },
      }),
    ).catch(() => ({})) // a plan is readable without
    if (props.plan === p) authors.value = found
  },
  { immediate: true },
)

const {
  steps: known,
  whole,
  pending,
  problem,
  fetchRest,
} = useSteps(
  () => props.plan,
  () => props.id,
)
// Phases span all functions, so they need all steps.
watch(
  [view, () => props.plan],
  () => {
    if (view.value === 'order') void fetchRest()
  },
  { immediate: true },
)
const groups = computed(() => {
  const steps = known.value
  if (view.value === 'order') {
    return [...Map.groupBy(steps, (s) => s.phase)]
      .sort(([a], [b]) => a - b)
      .map(([w, of]) => ({ title: `Phase ${w + 1}`, steps: of }))
  }
  return [...Map.groupBy(steps, (s) => s.function)]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([title, of]) => ({ title, steps: [...of].sort((a, b) => a.phase - b.phase) }))
})
const { shown, more, unfold } = useFold(() => groups.value, 25)
/** Hidden groups: folded ones, and those that are not loaded. */
const behind = computed(() =>
  view.value === 'functions' ? props.plan.total.functions - groups.value.length + more.value : more.value,
)
function showMore(): void {
  unfold()
  if (!whole.value) void fetchRest()
}
const box = ref<HTMLElement | null>(null)
const { inView, before, after, measure } = useRows(() => shown.value, 150, box)
</script>

<template>
  <div>
    <div v-if="plan.steps.length" class="views" role="group" aria-label="Order of the steps">
      <button
        type="button"
        class="btn btn-sm btn-outline-secondary"
        :aria-pressed="view === 'functions'"
        :class="{ active: view === 'functions' }"
        @click="view = 'functions'"
      >
        By function
      </button>
      <button
        type="button"
        class="btn btn-sm btn-outline-secondary"
        :aria-pressed="view === 'order'"
        :class="{ active: view === 'order' }"
        @click="view = 'order'"
      >
        By phase
      </button>
      <button
        type="button"
        class="btn btn-sm btn-outline-secondary"
        :aria-pressed="view === 'graph'"
        :class="{ active: view === 'graph' }"
        @click="view = 'graph'"
      >
        Graph
      </button>
      <span class="quiet">{{ count(plan.unchanged, 'resource') }} unchanged</span>
    </div>
    <template v-if="view === 'graph'">
      <p v-if="plan.total.steps > mostDrawn" class="quiet">
        {{ count(plan.total.steps, 'step') }} are too many for the graph; view them by function or by phase.
      </p>
      <PlanGraph v-else :plan="plan" />
    </template>
    <div v-else ref="box">
      <div v-if="before" aria-hidden="true" :style="{ height: `${before}px` }" />
      <div v-for="{ row: g, index } in inView" :key="g.title" :ref="measure" class="space" :data-index="index">
        <PlanGroup
          :title="g.title"
          :steps="g.steps"
          :authors="authors"
          :folded="view === 'functions'"
          :with-phase="view === 'functions'"
        />
      </div>
      <div v-if="after" aria-hidden="true" :style="{ height: `${after}px` }" />
    </div>
    <template v-if="view !== 'graph'">
      <ProblemNote :problem="problem" :again="fetchRest" />
      <p v-if="pending" class="quiet" role="status">
        {{ known.length }} of {{ count(plan.total.steps, 'step') }} loaded…
      </p>
      <p v-else-if="behind">
        <button type="button" class="btn btn-link p-0" @click="showMore">
          {{ count(behind, view === 'order' ? 'more phase' : 'more function') }}
        </button>
      </p>
    </template>
  </div>
</template>

<style scoped>
.views {
  display: flex;
  flex-wrap: wrap;
  gap: 0.4rem;
  align-items: baseline;
  margin-bottom: 0.6rem;
}
/* The distance is part of the row, because the visible rows are computed from their heights. */
.space {
  padding-bottom: 0.8rem;
}
</style>
