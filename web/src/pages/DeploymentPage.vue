<script setup lang="ts">
import { computed, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useAction } from '../composables/useAction'
import { useFold } from '../composables/useFold'
import { useLoad } from '../composables/useLoad'
import { useNow } from '../composables/useNow'
import { useSession } from '../stores/session'
import { count, duration } from '../words'

const route = useRoute()
const router = useRouter()
const session = useSession()
const id = computed(() => Number(route.params.id))
const { data, problem, reload } = useLoad(
  () => ask(client.GET('/deployments/{id}', { params: { path: { id: id.value } } })),
  { watch: () => id.value, topics: ['deployment'] },
)
const { shown: outputs, more, unfold } = useFold(() => data.value?.outputs ?? [], 40)
const { busy, problem: actProblem, run } = useAction()
const now = useNow(200)

// The deployment's stage is the focused one.
watch(data, (d) => {
  if (d && route.query.stage !== d.deployment.stage) void router.replace({ query: { stage: d.deployment.stage } })
})

const running = computed(() => data.value?.deployment.state === 'running')
const steps = computed(() => data.value?.steps ?? [])
const done = computed(() => steps.value.filter((s) => s.state === 'succeeded').length)
/** The estimated remaining time at the present rate; 0 if unknown. */
const left = computed(() => {
  const waiting = steps.value.filter((s) => s.state === 'waiting' || s.state === 'running').length
  return running.value && done.value >= 5 ? (span.value.length / done.value) * waiting : 0
})
const span = computed(() => {
  const d = data.value?.deployment
  const from = d?.startedAt ?? 0
  const last = steps.value.reduce((to, s) => Math.max(to, s.endedAt), d?.endedAt ?? 0)
  const to = running.value ? now.value : last
  return { from, length: Math.max(20, to - from) }
})

function act(action: 'retry' | 'cancel'): Promise<boolean> {
  return run(async () => {
    await ask(client.POST('/deployments/{id}/{action}', { params: { path: { id: id.value, action } } }))
    await reload()
  })
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <template v-if="data">
      <div class="page-head">
        <h1>Deployment {{ id }}</h1>
        <StateWord :state="data.deployment.state" />
        <span
          >version {{ data.deployment.version }} to {{ data.deployment.stage }} on {{ data.deployment.target }}</span
        >
        <span class="quiet">
          {{ data.deployment.person || 'by the delivery' }}, <TimeAgo :at="data.deployment.startedAt" />, {{ done }} of
          {{ count(steps.length, 'step') }} succeeded in {{ duration(span.length)
          }}<template v-if="left">, about {{ duration(left) }} left</template>
        </span>
        <RouterLink :to="{ name: 'saved-plan', params: { id: data.deployment.plan } }">Saved plan</RouterLink>
        <RouterLink
          :to="{ name: 'delivery', params: { version: data.deployment.version, stage: data.deployment.stage } }"
          >Delivery</RouterLink
        >
        <button
          v-if="running && session.may('deploy')"
          type="button"
          class="btn btn-sm btn-outline-secondary"
          :disabled="busy"
          @click="act('cancel')"
        >
          Cancel after the running steps
        </button>
      </div>
      <ProblemNote :problem="actProblem" />
      <div v-if="data.retryable" class="sheet sheet-pad mb-3">
        <p class="mb-2 wrap-anywhere">
          <strong class="bad">{{ data.deployment.reason || 'The deployment did not finish.' }}</strong>
        </p>
        <p class="mb-2">
          Completed steps are recorded. Retry the remaining steps of this plan. If the state has changed since, plan
          version {{ data.deployment.version }} again, or plan the previous version to roll back.
        </p>
        <button
          v-if="session.may('deploy')"
          type="button"
          class="btn btn-primary me-2"
          :disabled="busy"
          @click="act('retry')"
        >
          Retry remaining steps
        </button>
        <RouterLink
          class="btn btn-outline-secondary me-2"
          :to="{
            name: 'plan',
            query: {
              stage: data.deployment.stage,
              target: data.deployment.target,
              version: data.deployment.version,
            },
          }"
          >Plan version {{ data.deployment.version }} again</RouterLink
        >
        <RouterLink
          class="btn btn-outline-secondary"
          :to="{ name: 'plan', query: { stage: data.deployment.stage, target: data.deployment.target } }"
          >Plan previous version</RouterLink
        >
      </div>
      <p v-if="steps.length === 0" class="quiet">No steps: the stage already matched the version.</p>
      <template v-else>
        <DeploymentPhases :steps="steps" :span="span" :now="now" />
        <DeploymentSteps :steps="steps" :span="span" :now="now" />
      </template>
      <template v-if="data.outputs.length && !running">
        <h2>Outputs</h2>
        <div class="sheet overflow-auto">
          <RowTable caption="Outputs">
            <tbody>
              <tr v-for="(o, i) in outputs" :key="i">
                <td>{{ o.function }}</td>
                <td class="quiet">{{ o.name }}</td>
                <td><CopyText :text="o.value" /></td>
                <td class="quiet">{{ o.note }}</td>
                <td>
                  <RouterLink
                    v-if="o.value.startsWith('http')"
                    :to="{
                      name: 'function',
                      params: { function: o.function, tab: 'invoke' },
                      query: { stage: data.deployment.stage },
                    }"
                    >Invoke</RouterLink
                  >
                </td>
              </tr>
            </tbody>
          </RowTable>
          <p v-if="more" class="sheet-pad mb-0">
            <button type="button" class="btn btn-link p-0" @click="unfold">Show {{ more }} more</button>
          </p>
        </div>
      </template>
    </template>
  </div>
</template>
