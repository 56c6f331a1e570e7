<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { count } from '../words'

// Charts load on demand.
const FunctionMetrics = defineAsyncComponent(() => import('../components/FunctionMetrics.vue'))
const route = useRoute()
const router = useRouter()
const { service, stage } = useFocus()
const {
  data: board,
  problem: boardProblem,
  reload: reloadBoard,
} = useLoad(() => ask(client.GET('/services/{service}/board', { params: { path: { service: service.value } } })), {
  watch: () => service.value,
  topics: ['build', 'deployment'],
})
const names = computed(() => board.value?.rows.map((r) => r.function) ?? [])
const name = computed(() => String(route.params.function ?? names.value[0] ?? ''))
const tab = computed(() => String(route.params.tab || 'invoke'))
const tabs = [
  { key: 'invoke', label: 'Invoke' },
  { key: 'logs', label: 'Logs' },
  { key: 'metrics', label: 'Metrics' },
  { key: 'messages', label: 'Messages' },
  { key: 'configuration', label: 'Configuration' },
]
const { data, problem, pending, reload } = useLoad(
  async () => {
    if (!name.value || !stage.value) return null
    return ask(
      client.GET('/services/{service}/stages/{stage}/functions/{function}', {
        params: { path: { service: service.value, stage: stage.value, function: name.value } },
      }),
    )
  },
  {
    watch: () => [service.value, stage.value, name.value].join(' '),
    topics: ['deployment', 'observation'],
    about: () => ({ stage: stage.value }),
  },
)

function go(to: { function?: string; tab?: string }): void {
  void router.push({
    name: 'function',
    params: { service: service.value, function: to.function ?? name.value, tab: to.tab ?? tab.value },
    query: { stage: stage.value },
  })
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="boardProblem" :again="reloadBoard" />
    <div class="page-head">
      <h1 class="wrap-anywhere">{{ name || 'Functions' }}</h1>
      <select
        v-if="names.length > 1"
        class="form-select pick"
        aria-label="Function"
        value=""
        @change="go({ function: ($event.target as HTMLSelectElement).value })"
      >
        <option value="">Other functions…</option>
        <option v-for="n in names.filter((n) => n !== name)" :key="n">{{ n }}</option>
      </select>
      <template v-if="data">
        <span>{{ data.description }}</span>
        <span class="quiet"
          >in {{ stage }}: {{ data.deployed ? `last changed by version ${data.version}` : 'not deployed yet' }}</span
        >
        <span v-if="data.metrics" class="quiet"
          >{{ data.metrics.invocations ? count(data.metrics.invocations, 'invocation') : 'no invocations' }} in the last
          hour<template v-if="data.metrics.invocations"
            >, {{ data.metrics.errors }} failed, {{ data.metrics.meanMs.toFixed(1) }} ms on average</template
          ></span
        >
      </template>
    </div>
    <ProblemNote :problem="boardProblem ? null : problem" :again="reload" />
    <PageWait v-if="pending" />
    <template v-if="data">
      <DriftNote v-if="data.drift.length" :drift="data.drift" :stage="stage" :service="service" :function-name="name" />
      <nav class="mb-3" aria-label="About the function">
        <BNav tabs>
          <BNavItem
            v-for="t in tabs"
            :key="t.key"
            :active="tab === t.key"
            :link-attrs="{ 'aria-current': tab === t.key ? 'page' : undefined }"
            :to="{ name: 'function', params: { service, function: name, tab: t.key }, query: { stage } }"
            >{{ t.label }}</BNavItem
          >
        </BNav>
      </nav>
      <FunctionInvoke v-if="tab === 'invoke'" :key="`${name} ${stage}`" :detail="data" :service="service" />
      <FunctionLogs v-else-if="tab === 'logs'" :key="`${name} ${stage}`" :detail="data" :service="service" />
      <FunctionMetrics
        v-else-if="tab === 'metrics'"
        :key="`figures ${name} ${stage}`"
        :detail="data"
        :service="service"
      />
      <FunctionMessages
        v-else-if="tab === 'messages'"
        :key="`messages ${name} ${stage}`"
        :detail="data"
        :service="service"
      />
      <FunctionConfiguration v-else :detail="data" :service="service" />
    </template>
  </div>
</template>

<style scoped>
.pick {
  width: auto;
  max-width: 14rem;
}
</style>
