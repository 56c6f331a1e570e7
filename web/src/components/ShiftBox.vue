<script setup lang="ts">
// The traffic shift of a version: both revisions side by side, the
// judge's verdict, the next step, and the commands.
import { computed, defineAsyncComponent } from 'vue'

import type { Schemas } from '../api/client'
import { useNow } from '../composables/useNow'
import { clock, count, duration } from '../words'
import type { FigureRow } from './MetricsChart.vue'

/** Charts load once there is data. */
const MetricsChart = defineAsyncComponent(() => import('./MetricsChart.vue'))

const props = defineProps<{
  shift: Schemas['TrafficShift']
  version: number
  state: string
  actions: Schemas['DeliveryAction'][]
  busy: boolean
}>()
const emit = defineEmits<{ act: [word: Schemas['DeliveryAction']] }>()
const steering: Schemas['DeliveryAction'][] = ['advance', 'pause', 'resume', 'abort']
const now = useNow(1000)

const runs = computed(() => props.shift.active && props.state === 'shifting')
/** The next step, and its time. */
const next = computed(() => {
  const s = props.shift
  if (!runs.value) return ''
  if (s.rollbackReason) return `Rolling back to version ${s.before}.`
  if (!s.since) return `Moving ${s.share}% of traffic to version ${props.version}.`
  const to = s.steps[s.step + 1]
  const where = to === undefined ? 'to 100%, then its cases run' : `to ${to}%`
  if (s.pausedBy) return `Paused by ${s.pausedBy}. When resumed, traffic increases ${where}.`
  if (!s.at) return ''
  const left = s.at - now.value
  if (left <= 0) return `Traffic to version ${props.version} increases ${where} now.`
  if (s.outcome === 'wait' && s.since + s.everyMs <= now.value)
    return `Waiting for more invocations. Without them, traffic increases ${where} in ${duration(left)}.`
  return `Traffic to version ${props.version} increases ${where} in ${duration(left)} unless a regression is detected.`
})
const labels = computed(() => props.shift.points.map((p) => clock(p.at).slice(0, 5)))
const part = (s: Schemas['PointSide']): number | null => (s.invocations ? (100 * s.errors) / s.invocations : null)
type Side = 'new' | 'old'
function rows(of: (p: Schemas['PointSide']) => number | null): FigureRow[] {
  const row = (side: Side, label: string, color: FigureRow['color'], dashed: boolean): FigureRow => ({
    label,
    values: props.shift.points.map((p) => of(p[side])),
    color,
    line: true,
    dashed,
  })
  return [
    row('new', `version ${props.version}`, 'fjord', false),
    row('old', `version ${props.shift.before}`, 'quiet', true),
  ]
}
const errors = computed(() => rows(part))
const latency = computed(() => rows((s) => (s.p95 ? s.p95 : null)))
/** A probability, with two digits. */
const chance = (p: number): string => (p < 1e-6 ? 'under 0.000001' : String(Number(p.toPrecision(2))))
const percent = (n: number): string => `${Number((100 * n).toFixed(2))}%`
const rate = (s: Schemas['Side']): string => (s.invocations ? percent(s.errors / s.invocations) : 'none')
const words: Record<string, string> = {
  advance: 'Move to next step now',
  pause: 'Pause',
  resume: 'Resume',
  abort: 'Roll back now',
}
</script>

<template>
  <section class="sheet sheet-pad mb-3" aria-labelledby="shift">
    <h2 id="shift"><GlossaryTerm term="traffic shift">Traffic shift</GlossaryTerm></h2>
    <ol v-if="shift.steps.length" class="way" aria-label="Shares">
      <li
        v-for="(s, i) in [...shift.steps, 100]"
        :key="s"
        :class="{
          here: runs && !shift.rollbackReason && i === shift.step,
          past: i < shift.step || (!shift.active && !shift.rollbackReason),
        }"
      >
        {{ s }}%
      </li>
    </ol>
    <p v-if="shift.rollbackReason" class="bad mb-2 wrap-anywhere">
      <strong>{{ shift.active ? 'Rolling back:' : 'Rolled back:' }}</strong> {{ shift.rollbackReason }}
    </p>
    <p v-else-if="shift.reason" class="mb-2 wrap-anywhere">
      <StateWord v-if="shift.outcome" :state="shift.outcome === 'wait' ? 'waiting' : 'passed'" />
      {{ shift.reason }}
    </p>
    <p v-if="next" class="mb-2">{{ next }}</p>
    <p v-if="runs && actions.length" class="mb-2">
      <button
        v-for="a in steering.filter((w) => actions.includes(w))"
        :key="a"
        type="button"
        class="btn btn-sm me-2"
        :class="a === 'abort' ? 'btn-outline-danger' : 'btn-outline-secondary'"
        :disabled="busy"
        @click="emit('act', a)"
      >
        {{ words[a] }}
      </button>
    </p>
    <RowTable caption="Judge results" v-if="shift.findings.length" class="mb-2">
      <thead>
        <tr>
          <th scope="col">Function</th>
          <th scope="col">Version {{ version }}</th>
          <th scope="col">Version {{ shift.before }}</th>
          <th scope="col">Chance if both were equal</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="f in shift.findings" :key="f.function">
          <td>{{ f.function }}</td>
          <td v-for="side in [f.new, f.old]" :key="side === f.new ? 'new' : 'old'">
            <template v-if="side.invocations">
              {{ side.errors }} of {{ count(side.invocations, 'invocation') }} failed, {{ rate(side) }}
              <span class="quiet d-block small"
                >between {{ percent(side.low) }} and {{ percent(side.high)
                }}<template v-if="side.p95">; p95 {{ duration(side.p95) }}</template></span
              >
            </template>
            <span v-else class="quiet">No invocations</span>
          </td>
          <td>
            <template v-if="f.new.invocations && f.limit"
              >{{ chance(f.chance) }}<span class="quiet d-block small">rolls back below {{ chance(f.limit) }}</span
              ><span v-if="f.disturbedAt" class="d-block"
                >both got worse at {{ clock(f.disturbedAt).slice(0, 5) }}; not because of version {{ version }}</span
              ><span v-if="f.ratio" class="quiet d-block small">{{ f.ratio.toFixed(2) }} times the p95</span></template
            >
          </td>
        </tr>
      </tbody>
    </RowTable>
    <div v-if="shift.points.length > 1" class="charts">
      <MetricsChart
        title="Failed invocations"
        :labels="labels"
        :rows="errors"
        :say="(n) => `${Number(n.toFixed(1))}%`"
        height="9rem"
      />
      <MetricsChart title="p95 latency" :labels="labels" :rows="latency" :say="duration" height="9rem" />
    </div>
    <details v-if="shift.completedSteps.length">
      <summary>Completed steps</summary>
      <p v-for="t in shift.completedSteps" :key="t.at" class="mb-1 wrap-anywhere">
        {{ clock(t.at).slice(0, 8) }}: {{ t.share }}%<span v-if="t.reason" class="quiet">, {{ t.reason }}</span>
      </p>
    </details>
    <p class="quiet small mb-0">
      <template v-if="shift.steps.length"
        >Each step lasts {{ duration(shift.everyMs) }} and needs {{ count(shift.minInvocations, 'invocation') }} of each
        invoked function; without them it ends after {{ duration(shift.atMostMs) }}, and the cases decide.</template
      >
      Decided by the <GlossaryTerm term="judge" />;
      <RouterLink :to="{ name: 'doc', params: { name: 'judge' } }">how this is calculated</RouterLink>
    </p>
  </section>
</template>

<style scoped>
.way {
  display: flex;
  flex-wrap: wrap;
  gap: 0.3rem;
  list-style: none;
  padding: 0;
  margin: 0 0 0.6rem;
}
.way li {
  border: 1px solid var(--rule);
  padding: 0.1rem 0.6rem;
  color: var(--quiet);
  font-variant-numeric: tabular-nums;
}
.way .past {
  background: var(--wash);
  color: var(--ink);
}
.way .here {
  border-color: var(--fjord);
  color: var(--fjord);
  font-weight: 600;
}
.charts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(16rem, 1fr));
  gap: 1rem;
  margin-bottom: 0.5rem;
}
</style>
