<script setup lang="ts">
// Weeks side by side: delivered and failed versions, and their lead time. The
// same is below in words, with a link for each.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { count, day, duration } from '../words'

const props = defineProps<{ weeks: Schemas['DeliveryWeek'][]; stage: string }>()

const wide = 480
const high = 86
/** The maximum number of marks per week; the rest is counted. */
const most = 8

const step = computed(() => wide / Math.max(1, props.weeks.length))
const columns = computed(() =>
  props.weeks.map((w, i) => ({
    x: (i + 0.5) * step.value,
    label: day(w.begin).slice(5),
    marks: [...w.delivered.map(() => 'came'), ...w.failed.map(() => 'failed')].slice(0, most),
    more: Math.max(0, w.delivered.length + w.failed.length - most),
    says: `week of ${day(w.begin)}: ${count(w.delivered.length, 'version')} delivered, ${w.failed.length} failed or rolled back`,
    lead: w.leadTimeMs,
  })),
)
const longest = computed(() => Math.max(1, ...columns.value.map((c) => c.lead)))
const took = computed(() =>
  columns.value.filter((c) => c.lead).map((c) => ({ ...c, y: high - 4 - ((high - 14) * c.lead) / longest.value })),
)
/** Labels do not overlap. */
const each = computed(() => Math.ceil(44 / step.value))
</script>

<template>
  <div class="two">
    <figure>
      <figcaption class="quiet">Deliveries to {{ stage }} by week</figcaption>
      <svg
        :viewBox="`0 0 ${wide} ${high + 18}`"
        role="img"
        :aria-label="`Deliveries to ${stage} by week; the list of versions has the same data`"
      >
        <line x1="0" :x2="wide" :y1="high" :y2="high" class="axis" />
        <g v-for="(c, i) in columns" :key="i">
          <title>{{ c.says }}</title>
          <rect :x="c.x - step / 2" y="0" :width="step" :height="high" fill="transparent" />
          <template v-for="(m, n) in c.marks" :key="n">
            <circle v-if="m === 'came'" :cx="c.x" :cy="high - 7 - n * 9" r="3.5" class="came" />
            <path v-else :d="`M${c.x} ${high - 11 - n * 9} l4 7 h-8Z`" class="failed" />
          </template>
          <text v-if="c.more" :x="c.x" y="9">+{{ c.more }}</text>
          <text v-if="i % each === 0" :x="c.x" :y="high + 14">{{ c.label }}</text>
        </g>
      </svg>
    </figure>
    <figure>
      <figcaption class="quiet">Median lead time to {{ stage }} by week; longest {{ duration(longest) }}</figcaption>
      <svg
        :viewBox="`0 0 ${wide} ${high + 18}`"
        role="img"
        :aria-label="`Lead time to ${stage} by week; the list of versions has the same data`"
      >
        <line x1="0" :x2="wide" :y1="high" :y2="high" class="axis" />
        <polyline :points="took.map((c) => `${c.x},${c.y}`).join(' ')" class="way" />
        <g v-for="(c, i) in took" :key="i">
          <title>{{ c.label }}: {{ duration(c.lead) }}</title>
          <circle :cx="c.x" :cy="c.y" r="4" class="came" />
        </g>
        <template v-for="(c, i) in columns" :key="i">
          <text v-if="i % each === 0" :x="c.x" :y="high + 14">{{ c.label }}</text>
        </template>
      </svg>
    </figure>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(17rem, 1fr));
  gap: 0.5rem 1.5rem;
}
figure {
  margin: 0 0 0.5rem;
}
svg {
  display: block;
  width: 100%;
  max-width: 40rem;
}
text {
  fill: var(--quiet);
  font-size: 10px;
  text-anchor: middle;
}
.axis {
  stroke: var(--rule);
}
.came {
  fill: var(--spruce);
}
.failed {
  fill: var(--clay);
}
.way {
  fill: none;
  stroke: var(--spruce);
  stroke-width: 2;
}
</style>
