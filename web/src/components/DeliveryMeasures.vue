<script setup lang="ts">
// The delivery metrics of a stage by week, with the versions behind each number.
import { computed, ref } from 'vue'

import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { count, day, duration } from '../words'

const { service, stage } = useFocus()
const weeks = ref(8)
const { data, problem } = useLoad(
  async () =>
    stage.value
      ? ask(
          client.GET('/services/{service}/delivery-metrics', {
            params: { path: { service: service.value }, query: { stage: stage.value, weeks: weeks.value } },
          }),
        )
      : null,
  { watch: () => [service.value, stage.value, weeks.value].join(' '), topics: ['delivery'] },
)
const some = computed(() => data.value?.weeks.some((w) => w.delivered.length + w.failed.length > 0) ?? false)
</script>

<template>
  <ProblemNote :problem="problem" />
  <section v-if="data" class="sheet sheet-pad my-3" aria-labelledby="measures">
    <h2 id="measures">
      Delivery metrics of {{ stage }},
      <select v-model.number="weeks" class="form-select d-inline-block w-auto" aria-label="Period">
        <option :value="4">4 weeks</option>
        <option :value="8">8 weeks</option>
        <option :value="26">26 weeks</option>
      </select>
    </h2>
    <p v-if="!some" class="quiet mb-0">No version was delivered in this period.</p>
    <template v-else>
      <dl class="four">
        <div>
          <dt>Lead time to {{ stage }}</dt>
          <dd>{{ data.leadTimeMs ? duration(data.leadTimeMs) : 'no delivery' }}</dd>
        </div>
        <div>
          <dt>Deployment frequency, per week</dt>
          <dd>{{ Number(data.perWeek.toFixed(1)) }}</dd>
        </div>
        <div>
          <dt>Change failure rate</dt>
          <dd>{{ Number((100 * data.changeFailureRate).toFixed(0)) }}%</dd>
        </div>
        <div>
          <dt>Recovery time</dt>
          <dd>{{ data.recoveryTimeMs ? duration(data.recoveryTimeMs) : 'no failure' }}</dd>
        </div>
      </dl>
      <MeasureWeeks :weeks="data.weeks" :stage="data.stage" />
      <details>
        <summary>Versions in these figures</summary>
        <template v-for="w in data.weeks" :key="w.begin">
          <p v-if="w.delivered.length + w.failed.length" class="mb-1">
            <span class="quiet">week of {{ day(w.begin) }}, {{ count(w.delivered.length, 'version') }}:</span>
            <template v-for="d in w.delivered" :key="`d${d.version}`">
              {{ ' '
              }}<RouterLink :to="{ name: 'delivery', params: { service, version: d.version, stage } }">{{
                d.version
              }}</RouterLink>
              <span class="quiet">after {{ duration(d.leadTimeMs) }}</span>
            </template>
            <template v-for="f in w.failed" :key="`f${f.version}${f.at}`">
              {{ ' '
              }}<RouterLink class="bad" :to="{ name: 'delivery', params: { service, version: f.version, stage } }"
                >{{ f.version }} {{ f.state }}</RouterLink
              ><span v-if="f.until" class="quiet"> for {{ duration(f.until - f.at) }}</span>
            </template>
          </p>
        </template>
      </details>
    </template>
  </section>
</template>

<style scoped>
.four {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(10rem, 1fr));
  gap: 0.5rem 1.5rem;
  margin: 0.4rem 0 0.5rem;
}
dt {
  font-weight: normal;
  color: var(--quiet);
}
dd {
  margin: 0;
  font-size: 1.25rem;
  font-variant-numeric: tabular-nums;
}
</style>
