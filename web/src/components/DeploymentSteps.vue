<script setup lang="ts">
// The steps of a deployment, folded by function: failed ones first and open, then
// running ones. Few steps are all open.
import { computed, reactive, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useRows } from '../composables/useRows'
import { barOf, byFunction, type FunctionSteps, type Span, timesOf } from '../deployment'
import { count, duration } from '../words'

const props = defineProps<{ steps: Schemas['DeploymentStep'][]; span: Span; now: number }>()

/** Up to this number of steps nothing is folded at first. */
const few = 24
/** From this time without a response on, in milliseconds, a step says what it waits for. */
const slow = 5000
/** Functions that the user opened or closed. */
const turned = reactive(new Map<string, boolean>())

type Row = { key: string; of: FunctionSteps; step?: Schemas['DeploymentStep']; open: boolean }
const rows = computed<Row[]>(() =>
  byFunction(props.steps).flatMap((of) => {
    const open = turned.get(of.name) ?? (of.state === 'failed' || props.steps.length <= few)
    const head: Row = { key: of.name, of, open }
    return open ? [head, ...of.steps.map((step): Row => ({ key: `${of.name} ${step.index}`, of, step, open }))] : [head]
  }),
)
const body = ref<HTMLElement | null>(null)
const { inView, before, after, measure } = useRows(() => rows.value, 41, body)

function tries(of: FunctionSteps): number {
  return of.steps.reduce((n, s) => Math.max(n, s.attempts), 0)
}
function took(of: FunctionSteps): string {
  const { from, to } = timesOf(of.steps)
  return of.state === 'succeeded' ? duration(to - from) : ''
}
</script>

<template>
  <div class="sheet mb-3">
    <RowTable caption="Steps" class="timed" :aria-rowcount="rows.length + 1">
      <thead>
        <tr>
          <th scope="col">Function</th>
          <th scope="col">Change</th>
          <th scope="col">State</th>
          <th scope="col" class="time">Duration</th>
        </tr>
      </thead>
      <tbody ref="body">
        <tr v-if="before" aria-hidden="true" :style="{ height: `${before}px` }" />
        <tr
          v-for="{ row, index } in inView"
          :key="row.key"
          :ref="measure"
          :data-index="index"
          :aria-rowindex="index + 2"
        >
          <template v-if="row.step">
            <td class="step">
              <code>{{ row.step.address }}</code>
              <div v-if="row.step.error" class="bad wrap-anywhere">{{ row.step.error }}</div>
            </td>
            <td><CellPair :change="row.step.change" /></td>
            <td>
              <StateWord :state="row.step.state" />
              <span v-if="row.step.attempts > 1" class="quiet"> {{ count(row.step.attempts, 'attempt') }}</span>
              <span v-if="row.step.state === 'running' && now - row.step.startedAt > slow" class="quiet d-block">
                waiting for the platform’s response for {{ duration(now - row.step.startedAt) }}; fails after 2 minutes
              </span>
            </td>
            <td class="time">
              <div class="track">
                <span
                  class="bar"
                  :class="row.step.state"
                  :style="barOf(row.step.startedAt, row.step.endedAt || now, span)"
                />
              </div>
              <span class="quiet took">{{
                row.step.endedAt ? duration(row.step.endedAt - row.step.startedAt) : ''
              }}</span>
            </td>
          </template>
          <template v-else>
            <td>
              <button type="button" class="fold" :aria-expanded="row.open" @click="turned.set(row.of.name, !row.open)">
                <span class="sign" aria-hidden="true">{{ row.open ? '−' : '+' }}</span> {{ row.of.name }}
              </button>
            </td>
            <td class="quiet">{{ count(row.of.steps.length, 'step') }}</td>
            <td>
              <StateWord :state="row.of.state" />
              <span v-if="row.of.state !== 'succeeded'" class="quiet">
                {{ row.of.done }} of {{ row.of.steps.length }}</span
              >
              <span v-if="!row.open && tries(row.of) > 1" class="quiet"> {{ count(tries(row.of), 'attempt') }}</span>
            </td>
            <td class="time">
              <div class="track">
                <span
                  v-for="s in row.of.steps"
                  :key="s.index"
                  class="bar"
                  :class="s.state"
                  :style="barOf(s.startedAt, s.endedAt || now, span)"
                />
              </div>
              <span class="quiet took">{{ took(row.of) }}</span>
            </td>
          </template>
        </tr>
        <tr v-if="after" aria-hidden="true" :style="{ height: `${after}px` }" />
      </tbody>
    </RowTable>
  </div>
</template>

<style scoped>
.fold {
  border: 0;
  background: none;
  padding: 0.1rem 0.2rem 0.1rem 0;
  min-height: 1.5rem;
  color: inherit;
  font-weight: 600;
  text-align: left;
}
.sign {
  display: inline-block;
  width: 1.1rem;
  color: var(--quiet);
}
.step {
  padding-left: 2rem;
}
</style>
