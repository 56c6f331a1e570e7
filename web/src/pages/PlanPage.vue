<script setup lang="ts">
import { computed, onScopeDispose, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { ask, client, Problem, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { useLine } from '../stores/line'
import { useLive } from '../stores/live'
import { useSession } from '../stores/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const line = useLine()
const { service, stage } = useFocus()

const target = computed(() => (typeof route.query.target === 'string' ? route.query.target : undefined))
/** The requested version, or the version that is waiting to enter the stage. */
const asked = computed(() => Number(route.query.version) || undefined)
/** The unmanaged resources to delete. */
const deletions = computed(() => [route.query.deletions ?? []].flat().filter((a): a is string => typeof a === 'string'))
const waiting = computed(() => line.line?.stages.find((s) => s.stage === stage.value)?.next?.version)
const version = computed(() => asked.value ?? (target.value ? undefined : waiting.value))
const { data: versions } = useLoad(
  () => ask(client.GET('/services/{service}/versions', { params: { path: { service: service.value } } })),
  { topics: ['build'] },
)
const { data, problem, reload } = useLoad(
  () => {
    const id = Number(route.params.id)
    if (id) return ask(client.GET('/plans/{id}', { params: { path: { id } } }))
    return ask(
      client.GET('/services/{service}/plan', {
        params: {
          path: { service: service.value },
          query: { stage: stage.value, version: version.value, target: target.value, deletions: deletions.value },
        },
      }),
    )
  },
  {
    watch: () => [route.params.id, service.value, stage.value, version.value, target.value, deletions.value].join(' '),
  },
)
const plan = computed(() => data.value?.plan)
/** Since when the plan is empty; 0 if it is not. */
const quietSince = computed(() => {
  const p = plan.value
  if (!p || p.steps.length + p.blockers.length > 0 || p.base.version !== p.base.from) return 0
  return line.line?.stages.find((s) => s.stage === p.base.stage)?.since ?? 0
})
const targets = computed(() => line.line?.stages.find((s) => s.stage === stage.value)?.targets ?? [])

// A plan is computed at one time. After an event in its stage that it
// does not include, the page says so and keeps the plan unchanged.
const moved = ref(false)
const stop = useLive().listen((change) => {
  const here = change?.service === service.value && change.body.stage === plan.value?.base.stage
  if (
    change === null ||
    (here && (change.topic === 'deployment' || (change.topic === 'observation' && change.body.drifted === true)))
  )
    moved.value = true
})
onScopeDispose(stop)
watch(data, () => (moved.value = false))

/** It deletes data or widens access, so the stage's name confirms it. */
const asking = ref(false)
const doing = computed(() => {
  if (data.value?.runnable.action !== 'rollback' || !plan.value)
    return `Deploy version ${plan.value?.base.version ?? ''}`
  const { version, from } = plan.value.base
  return version > from ? `Redeploy version ${version}` : `Roll back to version ${version}`
})
/** A rollback, and an action that deletes data or widens access, is confirmed. */
const asks = computed(() => !!data.value?.confirm || data.value?.runnable.action === 'rollback')
const { busy, problem: runProblem, run } = useAction()

function choose(query: Record<string, string | undefined>): void {
  void router.push({
    name: 'plan',
    params: { service: service.value },
    query: { stage: stage.value, version: version.value, target: target.value, ...query },
  })
}

/** Saves the plan as shown, so it has an address; an outdated one is rejected. */
async function keep(): Promise<Schemas['SavedPlan']> {
  if (!data.value) throw new Problem(0, 'The plan is still loading.')
  if (data.value.id) return data.value
  const { base, digest } = data.value.plan
  return ask(
    client.POST('/services/{service}/plans', {
      params: { path: { service: service.value } },
      body: { stage: base.stage, version: base.version, target: base.target, digest, deletions: deletions.value },
    }),
  )
}
function address(): Promise<boolean> {
  return run(async () => {
    const { id } = await keep()
    await router.push({ name: 'saved-plan', params: { service: service.value, id } })
  })
}

const copied = ref('')
/** Copies the plan as text, to share it. */
async function copy(): Promise<void> {
  await run(async () => {
    const { id } = await keep()
    const text = await ask(client.GET('/plans/{id}/text', { params: { path: { id } }, parseAs: 'text' }))
    await navigator.clipboard.writeText(`${text}${location.origin}/s/${service.value}/plan/${id}\n`)
    copied.value = 'copied'
    setTimeout(() => (copied.value = ''), 2000)
  })
}

async function go(confirm: string, reason = ''): Promise<void> {
  await run(async () => {
    const kept = await keep()
    const { deployment } = await ask(
      client.POST('/plans/{id}/deployments', { params: { path: { id: kept.id } }, body: { confirm, reason } }),
    )
    if (deployment) await router.push({ name: 'deployment', params: { service: service.value, id: deployment } })
    else
      await router.push({
        name: 'delivery',
        params: { service: service.value, version: kept.plan.base.version, stage: kept.plan.base.stage },
      })
  })
}
</script>

<template>
  <div class="page">
    <div class="page-head">
      <h1>Plan</h1>
      <label class="pick"
        >version
        <select
          class="form-select"
          :value="plan?.base.version ?? ''"
          @change="choose({ version: ($event.target as HTMLSelectElement).value })"
        >
          <option v-for="v in versions ?? []" :key="v.number" :value="v.number">{{ v.number }}: {{ v.message }}</option>
        </select>
      </label>
      <label v-if="targets.length > 1" class="pick"
        >to
        <select
          class="form-select"
          :value="plan?.base.target ?? ''"
          @change="choose({ target: ($event.target as HTMLSelectElement).value })"
        >
          <option v-for="t in targets" :key="t">{{ t }}</option>
        </select>
      </label>
      <button v-if="!route.params.id" type="button" class="btn btn-outline-secondary btn-sm" @click="reload()">
        Recompute plan
      </button>
      <span v-if="data?.id" class="quiet">plan {{ data.id }}, kept <TimeAgo :at="data.createdAt" /></span>
      <template v-else-if="data">
        <span class="quiet">computed <TimeAgo :at="data.createdAt" />, not saved</span>
        <button type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="address">
          Save plan
        </button>
      </template>
      <button v-if="data" type="button" class="btn btn-outline-secondary btn-sm" :disabled="busy" @click="copy">
        {{ copied || 'Copy as text' }}
      </button>
    </div>
    <ProblemNote :problem="problem" :again="reload" />
    <p v-if="moved && data && !busy" class="wait mb-2" role="status">
      {{ plan?.base.stage }} has changed since this plan was computed.
      <button type="button" class="btn btn-link p-0" @click="route.params.id ? choose({}) : reload()">
        Recompute plan
      </button>
    </p>
    <template v-if="data && plan">
      <p class="sentence">
        {{ plan.sentence }}
        <span v-if="!asked && waiting && waiting === plan.base.version" class="quiet"
          >Waiting to enter:
          <RouterLink :to="{ name: 'delivery', params: { service, version: waiting, stage: plan.base.stage } }"
            >show gates</RouterLink
          >.</span
        >
      </p>
      <PlanAgainst v-if="data.id" :id="data.id" />
      <p v-if="quietSince" class="quiet">
        Up to date since <TimeAgo :at="quietSince" />, when version {{ plan.base.version }} was deployed. The last check
        found no drift. Choose another version to see what it would change.
      </p>
      <div v-else class="split">
        <section>
          <PlanSheet :id="data.id" :plan="plan" />
        </section>
        <aside>
          <h2>Impact</h2>
          <ImpactList :lines="plan.impact" />
          <div class="sheet sheet-pad foot">
            <template v-if="plan.blockers.length">
              <h2 class="bad">Blockers</h2>
              <p v-for="p in plan.blockers" :key="p.message" class="mb-1 wrap-anywhere">
                {{ p.message }} <span v-if="p.from?.file" class="quiet">{{ p.from.file }}:{{ p.from.line }}</span>
              </p>
              <StageSecrets
                class="my-3"
                :service="service"
                :stage="plan.base.stage"
                missing-only
                @set="route.params.id ? choose({}) : reload()"
              />
            </template>
            <p class="mb-2">{{ data.runnable.reason }}</p>
            <ProblemNote :problem="runProblem"
              ><button
                v-if="runProblem?.status === 409"
                type="button"
                class="btn btn-sm btn-outline-secondary d-block mt-1"
                @click="choose({})"
              >
                Recompute plan
              </button></ProblemNote
            >
            <template v-if="['run', 'rollback'].includes(data.runnable.action)">
              <TypedConfirm
                v-model="asking"
                :title="doing"
                :word="data.confirm ? plan.base.stage : undefined"
                :reasoned="data.runnable.action === 'rollback'"
                :action="doing"
                :busy="busy"
                :problem="runProblem"
                @confirm="go"
              >
                <p v-if="data.runnable.action === 'rollback'" class="mb-1">{{ data.runnable.reason }}</p>
                <ul v-if="data.runnable.action === 'rollback' && plan.impact.length" class="says">
                  <ImpactLines :lines="plan.impact" />
                </ul>
                <p v-if="data.confirm" class="mb-0">{{ data.confirm }}.</p>
              </TypedConfirm>
              <button
                type="button"
                class="btn btn-primary"
                :disabled="busy || !session.may('deploy')"
                @click="asks ? (asking = true) : go('')"
              >
                {{ doing }}{{ asks ? '…' : '' }}
              </button>
              <p v-if="data.confirm" class="bad mb-0 mt-1">{{ data.confirm }}.</p>
              <p v-if="!session.may('deploy')" class="quiet mb-0 mt-1">Your role can view plans but not run them.</p>
            </template>
            <RouterLink
              v-if="data.runnable.action === 'delivery'"
              :to="{ name: 'delivery', params: { service, version: plan.base.version, stage: plan.base.stage } }"
              >Show gates in {{ plan.base.stage }}</RouterLink
            >
          </div>
          <p class="quiet small mt-2 wrap-anywhere">
            Digest <code>{{ plan.digest.slice(7, 23) }}</code>, computed against record serial
            {{ plan.base.serial }} and actual state <code>{{ plan.base.fingerprint.slice(0, 10) }}</code>. The plan is
            out of date as soon as either changes.
          </p>
        </aside>
      </div>
    </template>
    <div v-else-if="!problem">
      <p class="quiet">Comparing the version with the recorded and the actual state…</p>
      <PageWait />
    </div>
  </div>
</template>

<style scoped>
.sentence {
  font-size: 1.05rem;
  margin-bottom: 0.8rem;
}
.pick {
  display: inline-flex;
  gap: 0.4rem;
  align-items: baseline;
  color: var(--quiet);
}
.pick {
  min-width: 0;
  max-width: 100%;
}
.pick select {
  width: auto;
  min-width: 0;
  max-width: min(24rem, 100%);
}
.split {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 21rem;
  gap: 1.25rem;
  align-items: start;
}
.foot {
  margin-top: 0.8rem;
}
aside {
  position: sticky;
  top: 0.5rem;
}
</style>
