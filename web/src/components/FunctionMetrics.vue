<script setup lang="ts">
import { computed } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useLoad } from '../composables/useLoad'
import { bytes, duration, exact } from '../words'

const props = defineProps<{ detail: Schemas['FunctionDetail']; service: string }>()
const target = useAddress('target', props.detail.targets[0] ?? '')
const over = useAddress('over', '60')
const spans = [
  { value: 60, label: 'Last hour' },
  { value: 360, label: 'Last 6 hours' },
  { value: 1440, label: 'Last day' },
  { value: 10080, label: 'Last week' },
  { value: 43200, label: 'Last 30 days' },
] as const
/** The period of the metrics; the address can contain anything. */
const minutes = computed(() => spans.find((s) => String(s.value) === over.value)?.value ?? 60)

const { data, problem, reload } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/stages/{stage}/functions/{function}/metrics', {
        params: {
          path: { service: props.service, stage: props.detail.stage, function: props.detail.function },
          query: { target: target.value, minutes: minutes.value },
        },
      }),
    ),
  { watch: () => [target.value, minutes.value].join(' '), topics: ['observation', 'deployment'] },
)
const points = computed(() => data.value?.points ?? [])
const labels = computed(() =>
  points.value.map((p) => (minutes.value > 1440 ? exact(p.at).slice(5, 16) : exact(p.at).slice(11, 16))),
)
const called = computed(() => (data.value?.revisions ?? []).some((r) => r.invocations + r.throttled > 0))
const answered = computed(() => points.value.map((p) => p.invocations - p.errors))
/** A round step of the memory axis: a power of two, about a quarter of the limit. */
const memoryStep = computed(() => 2 ** Math.ceil(Math.log2((data.value?.memoryLimit ?? 2 ** 27) / 4)))
const some = (p: Schemas['MetricsPoint'], n: number) => (p.invocations > p.cold ? n : null)
const words: Record<string, string> = {
  failed: 'failed',
  'timed-out': 'timed out',
  'out-of-memory': 'out of memory',
}
const kinds = (of: Record<string, number>) =>
  Object.entries(of)
    .map(([kind, n]) => `${n} ${words[kind] ?? kind}`)
    .join(', ')
const whole = (n: number) => String(n)
</script>

<template>
  <section>
    <div class="controls">
      <select v-model="over" class="form-select" aria-label="Period">
        <option v-for="s in spans" :key="s.value" :value="String(s.value)">{{ s.label }}</option>
      </select>
      <select v-if="detail.targets.length > 1" v-model="target" class="form-select" aria-label="Target">
        <option v-for="t in detail.targets" :key="t">{{ t }}</option>
      </select>
      <span v-if="data?.cost && called" class="quiet" :title="data.cost.how"
        >cost {{ data.cost.amount }} {{ data.cost.currency }}: {{ data.cost.how }}</span
      >
    </div>
    <ProblemNote :problem="problem" :again="reload" />
    <EmptyNote v-if="data && !called" title="No invocations in this period"
      >Invoke the function on the Invoke tab, or choose a longer period.</EmptyNote
    >
    <template v-else-if="data">
      <div class="grid">
        <MetricsChart
          title="Invocations"
          :labels="labels"
          stacked
          :say="whole"
          :rows="[
            { label: 'succeeded', values: answered, color: 'spruce' },
            { label: 'failed', values: points.map((p) => p.errors), color: 'clay' },
            { label: 'throttled', values: points.map((p) => p.throttled), color: 'amber' },
          ]"
        />
        <MetricsChart
          title="Duration of warm invocations"
          :labels="labels"
          :say="duration"
          :rows="[
            { label: 'p50', values: points.map((p) => some(p, p.p50)), color: 'fjord', line: true },
            { label: 'p95', values: points.map((p) => some(p, p.p95)), color: 'heather', line: true },
          ]"
        />
        <MetricsChart
          title="Memory"
          :labels="labels"
          :step="memoryStep"
          :say="bytes"
          :rows="[
            { label: 'peak', values: points.map((p) => p.memoryPeak || null), color: 'spruce' },
            {
              label: 'limit',
              values: points.map(() => data?.memoryLimit ?? null),
              color: 'clay',
              line: true,
              dashed: true,
            },
          ]"
        />
        <MetricsChart
          title="Distribution of warm durations"
          :labels="data.durations.map((d) => duration(d.upToMs))"
          :say="whole"
          :rows="[
            {
              label: 'invocations up to this duration',
              values: data.durations.map((d) => d.invocations),
              color: 'fjord',
            },
          ]"
        />
      </div>
      <h2 class="mt-3">By version and revision</h2>
      <div class="sheet overflow-auto" tabindex="0" role="group" aria-label="Metrics by version">
        <RowTable caption="Metrics by version and revision">
          <thead>
            <tr>
              <th scope="col">Version</th>
              <th scope="col" class="num">Invocations</th>
              <th scope="col" class="num">Failed</th>
              <th scope="col" class="num">Throttled</th>
              <th scope="col" class="num">Cold starts</th>
              <th scope="col" class="num">p50</th>
              <th scope="col" class="num">p95</th>
              <th scope="col" class="num">p99</th>
              <th scope="col" class="num">Maximum</th>
              <th scope="col" class="num">Memory peak</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="r in data.revisions" :key="r.revision">
              <td>
                {{ r.version ? `version ${r.version}` : 'deleted version' }}
                <code class="quiet">{{ r.revision || 'none' }}</code>
              </td>
              <td class="num">{{ r.invocations }}</td>
              <td class="num" :class="{ bad: r.errors > 0 }">
                {{ r.errors }}<span v-if="r.errors" class="d-block small">{{ kinds(r.errorKinds) }}</span>
              </td>
              <td class="num">{{ r.throttled }}</td>
              <td class="num">{{ r.cold }}</td>
              <td class="num">{{ duration(r.p50) }}</td>
              <td class="num">{{ duration(r.p95) }}</td>
              <td class="num">{{ duration(r.p99) }}</td>
              <td class="num">{{ duration(r.maxMs) }}</td>
              <td class="num">{{ bytes(r.memoryPeak) }}</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
      <p class="quiet small mt-2 mb-0">Durations are accurate to 10% and exclude cold starts.</p>
    </template>
  </section>
</template>

<style scoped>
.grid {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: 1rem 1.6rem;
}
</style>
