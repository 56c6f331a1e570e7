<script setup lang="ts">
// The plan of an edit in the focused stage, during typing: it is shown,
// and never executed.
import { onScopeDispose, ref, watch } from 'vue'

import { ask, client, problemOf, type Problem, type Schemas } from '../api/client'
import { count } from '../words'

const props = defineProps<{ service: string; branch: string; stage: string; files: Map<string, string | null> }>()
/** The approximate number of listed steps. */
const mostSteps = 100
const sketch = ref<Schemas['DraftPlan'] | null>(null)
const problem = ref<Problem | null>(null)
const pending = ref(false)
let asked = 0
let timer: ReturnType<typeof setTimeout> | undefined

watch(
  () => [props.service, props.branch, props.stage, props.files] as const,
  () => {
    clearTimeout(timer)
    pending.value = true
    const mine = ++asked
    timer = setTimeout(async () => {
      try {
        const got = await ask(
          client.POST('/services/{service}/source/plan', {
            params: { path: { service: props.service } },
            body: {
              branch: props.branch,
              stage: props.stage,
              files: Object.fromEntries(props.files),
              steps: mostSteps,
            },
          }),
        )
        if (mine !== asked) return
        sketch.value = got
        problem.value = null
      } catch (e) {
        if (mine === asked) problem.value = problemOf(e)
      }
      if (mine === asked) pending.value = false
    }, 250)
  },
  { immediate: true },
)
onScopeDispose(() => {
  clearTimeout(timer)
  asked++
})
</script>

<template>
  <section class="sheet sheet-pad mb-2" :aria-busy="pending" aria-label="Plan of this edit">
    <h2>Plan for {{ stage }} if {{ files.size ? 'committed' : `${branch} is merged` }}</h2>
    <p v-if="problem" class="quiet mb-0">{{ problem.message }}</p>
    <p v-else-if="!sketch" class="quiet mb-0">Comparing…</p>
    <p v-else-if="sketch.errors.length" class="quiet mb-0">Fix the errors to compute a plan.</p>
    <template v-else>
      <p class="mb-1">{{ sketch.plan.sentence }}</p>
      <p v-for="p in sketch.plan.blockers" :key="p.message" class="bad mb-1 wrap-anywhere">{{ p.message }}</p>
      <ul class="says">
        <ImpactLines :lines="sketch.plan.impact" />
      </ul>
      <details v-if="sketch.plan.steps.length">
        <summary class="quiet">Steps</summary>
        <p v-for="s in sketch.plan.steps.filter((s) => !s.follows)" :key="s.address" class="mb-0 wrap-anywhere">
          <CellPair :change="s.change" /> <code>{{ s.address }}</code>
        </p>
        <p v-if="sketch.plan.next" class="quiet mb-0">
          and the steps of
          {{ count(sketch.plan.total.functions - new Set(sketch.plan.steps.map((s) => s.function)).size, 'function') }}
          more, shown after the commit
        </p>
      </details>
    </template>
  </section>
</template>

<style scoped>
.says {
  list-style: none;
  padding: 0;
  margin: 0;
}
</style>
