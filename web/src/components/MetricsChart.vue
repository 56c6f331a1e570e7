<script setup lang="ts">
import {
  BarController,
  BarElement,
  CategoryScale,
  Chart,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip,
} from 'chart.js'
import { computed } from 'vue'
import { Chart as VueChart } from 'vue-chartjs'

import { useTheme } from '../composables/useTheme'

Chart.defaults.font.family = "'IBM Plex Sans', sans-serif"
Chart.register(
  BarController,
  BarElement,
  CategoryScale,
  LinearScale,
  LineController,
  LineElement,
  PointElement,
  Tooltip,
)

/** One row of a chart: its name, values, form and color. */
export interface FigureRow {
  label: string
  values: (number | null)[]
  color: 'spruce' | 'fjord' | 'amber' | 'clay' | 'heather' | 'quiet'
  line?: boolean
  dashed?: boolean
}

const props = defineProps<{
  title: string
  labels: string[]
  rows: FigureRow[]
  say: (n: number) => string
  stacked?: boolean
  height?: string
  step?: number
}>()
const { theme } = useTheme()

const colors = computed(() => {
  void theme.value // the variables depend on the theme
  const style = getComputedStyle(document.documentElement)
  return (name: string) => style.getPropertyValue(`--${name}`).trim()
})
const data = computed(() => ({
  labels: props.labels,
  datasets: props.rows.map((r) => ({
    type: r.line ? ('line' as const) : ('bar' as const),
    label: r.label,
    data: r.values,
    backgroundColor: colors.value(r.color),
    borderColor: colors.value(r.color),
    borderWidth: r.line ? 1.75 : 0,
    borderDash: r.dashed ? [5, 4] : [],
    pointRadius: r.line && !r.dashed ? 1.75 : 0,
    spanGaps: false,
    barPercentage: 1,
    categoryPercentage: 0.85,
  })),
}))
const options = computed(() => ({
  animation: false as const,
  maintainAspectRatio: false,
  interaction: { mode: 'index' as const, intersect: false },
  plugins: {
    legend: { display: false },
    tooltip: {
      callbacks: {
        label: (item: { dataset: { label?: string }; parsed: { y: number | null } }) =>
          `${item.dataset.label ?? ''}: ${props.say(item.parsed.y ?? 0)}`,
      },
    },
  },
  scales: {
    x: {
      stacked: props.stacked,
      grid: { display: false },
      border: { color: colors.value('rule') },
      ticks: { color: colors.value('quiet'), maxRotation: 0, autoSkipPadding: 24 },
    },
    y: {
      stacked: props.stacked,
      beginAtZero: true,
      grid: { color: colors.value('rule') },
      border: { display: false },
      ticks: {
        color: colors.value('quiet'),
        maxTicksLimit: 5,
        precision: 0,
        stepSize: props.step,
        callback: (v: number | string) => props.say(Number(v)),
      },
    },
  },
}))
</script>

<template>
  <figure class="mb-0">
    <figcaption>
      <strong>{{ title }}</strong>
      <span v-for="r in rows" :key="r.label" class="key"
        ><i :class="{ line: r.line, dashed: r.dashed }" :style="{ color: `var(--${r.color})` }" />{{ r.label }}</span
      >
    </figcaption>
    <div :style="{ height: height ?? '9.5rem' }">
      <VueChart type="bar" :data="data" :options="options" :aria-label="title" />
    </div>
  </figure>
</template>

<style scoped>
figcaption {
  display: flex;
  flex-wrap: wrap;
  gap: 0 0.9rem;
  align-items: center;
  margin-bottom: 0.3rem;
}
.key {
  color: var(--quiet);
  display: inline-flex;
  align-items: center;
  gap: 0.35rem;
}
.key i {
  width: 12px;
  height: 9px;
  background: currentColor;
}
.key i.line {
  height: 0;
  background: none;
  border-top: 2px solid;
}
.key i.dashed {
  border-top-style: dashed;
}
</style>
