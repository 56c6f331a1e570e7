<script setup lang="ts">
import { ask, client, type Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { useLine } from '../stores/line'
import { writer } from '../words'

const line = useLine()
const { service, stage } = useFocus()
const { data, problem } = useLoad(() => ask(client.GET('/services/{service}/deliveries', { params: { path: { service: service.value } } })), {
  watch: () => service.value,
  topics: ['build', 'delivery'],
})

function place(d: Schemas['Delivery'], name: string): Schemas['DeliveryPlace'] | undefined {
  return d.stages.find((s) => s.stage === name)
}
function here(name: string): number {
  return line.line?.stages.find((s) => s.stage === name)?.version ?? 0
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" />
    <div class="page-head">
      <h1>Deliveries</h1>
      <span class="quiet">a row a version, newest first; the version that runs in a stage is underlined</span>
    </div>
    <EmptyNote v-if="data && data.length === 0" title="Nothing is on its way" command="git push origin main">A push to the branch that the first stage takes builds a version and starts its delivery.</EmptyNote>
    <div v-else-if="data" class="sheet overflow-auto">
      <table class="rows">
        <thead>
          <tr>
            <th class="number">version</th>
            <th>what</th>
            <th v-for="s in line.stages" :key="s" :class="{ move: s === stage }">{{ s }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in data" :key="d.version">
            <td class="number"><RouterLink :to="{ name: 'version', params: { version: d.version } }">{{ d.version }}</RouterLink></td>
            <td>{{ d.message }}<div class="quiet">{{ writer(d) }}, built <TimeAgo :at="d.at" /></div></td>
            <td v-for="s in line.stages" :key="s" class="stage">
              <RouterLink v-if="place(d, s)" class="link-plain d-block" :to="{ name: 'delivery', params: { version: d.version, stage: s } }">
                <span :class="{ here: here(s) === d.version }"><StateWord :state="place(d, s)?.state ?? ''" /></span>
                <span class="quiet ms-2"><TimeAgo :at="place(d, s)?.since ?? 0" /></span>
                <span v-if="place(d, s)?.why" class="quiet why" :title="place(d, s)?.why">{{ place(d, s)?.why }}</span>
              </RouterLink>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.here {
  border-bottom: 2px solid var(--fjord);
}
.stage {
  min-width: 11rem;
  max-width: 16rem;
}
.why {
  display: -webkit-box;
  -webkit-line-clamp: 2;
  line-clamp: 2;
  -webkit-box-orient: vertical;
  overflow: hidden;
  font-size: 0.8125rem;
}
</style>
