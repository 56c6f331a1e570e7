<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useFocus } from '../composables/useFocus'
import { useFold } from '../composables/useFold'
import { useLoad } from '../composables/useLoad'
import { glossary } from '../glossary'
import { useLine } from '../stores/line'
import { useSession } from '../stores/session'
import { count, digest, some } from '../words'

const route = useRoute()
const session = useSession()
const line = useLine()
const { service, stage } = useFocus()
const version = computed(() => Number(route.params.version))
const path = computed(() => ({ service: service.value, version: version.value, stage: stage.value }))
const { data, problem, reload } = useLoad(
  () => ask(client.GET('/services/{service}/deliveries/{version}/stages/{stage}', { params: { path: path.value } })),
  {
    watch: () => JSON.stringify(path.value),
    topics: ['delivery', 'gates', 'deployment', 'observation', 'shift'],
  },
)
const comment = ref('')
/** The impact deletes data or widens access, so the stage's name confirms the action. */
const asking = ref(false)
const doing = ref<Action>('approve')
const { busy, problem: actProblem, run } = useAction()

// An approver sees the impact before approving and approves it by its digest. Others
// open it on demand.
/** The user is about to redeploy this version: the impact is shown first. */
const back = ref(false)
/** The user opened the impact without a decision to make. */
const curious = ref(false)
watch(
  () => [route.params.version, route.params.stage, route.query.back].join(' '),
  () => {
    back.value = route.query.back === '1'
    curious.value = false
  },
  { immediate: true },
)
const agrees = computed(
  () =>
    back.value ||
    (data.value?.actions.some((a) => ['approve', 'request', 'override', 'request-remaining'].includes(a)) ?? false),
)
const looks = computed(() => agrees.value || (curious.value && data.value?.place.state === 'waiting'))
/** The functions to request; none for all. */
const chosen = ref<string[]>([])
/** The requested earliest time, in the browser's zone; empty for at once. */
const at = ref('')
const rest = computed(() => data.value?.actions.includes('request-remaining') || undefined)
const {
  data: meaning,
  problem: meaningProblem,
  reload: lookAgain,
} = useLoad(
  async () =>
    looks.value
      ? ask(
          client.GET('/services/{service}/deliveries/{version}/stages/{stage}/impact', {
            params: { path: path.value, query: { functions: chosen.value, rest: rest.value } },
          }),
        )
      : null,
  { watch: () => JSON.stringify([path.value, looks.value, rest.value, chosen.value]), topics: ['gates'] },
)
/** Targets with the same impact are shown once. */
const places = computed(() => {
  const out = new Map<string, { targets: string[]; means: Schemas['TargetImpact'] }>()
  for (const t of meaning.value?.targets ?? []) {
    const key = JSON.stringify({ ...t, target: '' })
    const group = out.get(key) ?? { targets: [], means: t }
    group.targets.push(t.target)
    out.set(key, group)
  }
  return [...out.values()]
})
const mayAgree = computed(() => !!meaning.value)

type Action = Schemas['DeliveryAction']
const words: Partial<Record<Action, string>> = {
  request: 'Request delivery',
  approve: 'Approve',
  withdraw: 'Withdraw approval',
  override: 'Override gate',
  reject: 'Reject',
  retry: 'Retry',
  rollback: 'Redeploy version',
  'request-remaining': 'Request remaining functions',
}

/** Actions beside the page; ShiftBox has the actions that control a shift. */
const actions = computed(() => data.value?.actions.filter((a) => words[a]) ?? [])

const needsLook = ['approve', 'request', 'rollback', 'override', 'request-remaining']
/** The gate to override. */
const gate = ref('')
const overridable = computed(() => data.value?.gates.filter((g) => g.overridable) ?? [])

/** Runs the action, or asks for confirmation first. */
function begin(action: Action): void {
  if (needsLook.includes(action) && meaning.value?.confirm) {
    doing.value = action
    actProblem.value = null
    asking.value = true
  } else void act(action)
}

function act(action: Action, confirm = ''): Promise<boolean> {
  return run(async () => {
    await ask(
      client.POST('/services/{service}/deliveries/{version}/stages/{stage}/{action}', {
        params: { path: { ...path.value, action } },
        body: {
          comment: comment.value,
          gate: gate.value || undefined,
          impactDigest: meaning.value?.digest,
          confirm,
          functions: action === 'request' ? chosen.value : undefined,
          at: action === 'request' && at.value ? new Date(at.value).getTime() : undefined,
        },
      }),
    )
    comment.value = ''
    gate.value = ''
    asking.value = false
    back.value = false
    chosen.value = []
    at.value = ''
    await reload()
  })
}
/** Different archives come first. */
const digests = computed(() =>
  [...(data.value?.digests ?? [])].sort((a, b) => Number(a.digest === a.deployed) - Number(b.digest === b.deployed)),
)
const { shown: shownDigests, more: moreDigests, unfold: moreOfDigests } = useFold(() => digests.value, 12)
const same = computed(() => data.value?.digests.filter((d) => d.digest === d.deployed).length ?? 0)
/** The results of a manual run of the cases. */
const ran = ref<Schemas['CaseRun'][] | null>(null)
watch(path, () => {
  ran.value = null
  chosen.value = []
})
const cases = computed(() => ran.value ?? data.value?.cases ?? [])
const failed = computed(() => cases.value.filter((c) => !c.passed && !c.running).length)
const running = computed(() => cases.value.filter((c) => c.running).length)
const mayRun = computed(
  () =>
    session.may('invoke') &&
    data.value?.place.state === 'settled' &&
    line.line?.stages.find((s) => s.stage === stage.value)?.version === version.value,
)

function runCases(): Promise<boolean> {
  return run(async () => {
    ran.value = await ask(
      client.POST('/services/{service}/stages/{stage}/cases', {
        params: { path: { service: service.value, stage: stage.value } },
      }),
    )
  })
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <template v-if="data">
      <div class="page-head">
        <h1>Version {{ version }} in {{ stage }}</h1>
        <GlossaryTerm v-if="glossary.has(data.place.state)" :term="data.place.state"
          ><StateWord :state="data.place.state"
        /></GlossaryTerm>
        <StateWord v-else :state="data.place.state" />
        <span class="quiet"><TimeAgo :at="data.place.since" /></span>
        <span v-if="data.place.reason && data.place.reason !== data.shift?.rollbackReason" class="wrap-anywhere">{{
          data.place.reason
        }}</span>
        <span v-if="data.place.blockedBy" class="bad wrap-anywhere">{{ data.place.blockedBy }}</span>
        <span v-if="data.place.only">only {{ some(data.place.only) }}</span>
        <span v-if="data.remaining" class="wait">without {{ some(data.remaining) }}</span>
        <RouterLink v-if="data.plan" :to="{ name: 'saved-plan', params: { service, id: data.plan } }"
          >Executed plan</RouterLink
        >
        <RouterLink v-else :to="{ name: 'plan', params: { service }, query: { stage, version } }">Plan</RouterLink>
        <RouterLink v-for="d in data.deployments" :key="d" :to="{ name: 'deployment', params: { service, id: d } }"
          >deployment {{ d }}</RouterLink
        >
      </div>
      <div class="split">
        <section>
          <ShiftBox
            v-if="data.shift"
            :shift="data.shift"
            :version="version"
            :state="data.place.state"
            :actions="data.actions"
            :busy="busy"
            @act="act"
          />
          <h2><GlossaryTerm term="gate">Gates</GlossaryTerm></h2>
          <div class="sheet mb-3">
            <RowTable caption="Gates" class="gates">
              <tbody>
                <tr v-for="g in data.gates" :key="g.name">
                  <td class="state">
                    <StateWord :state="g.state" />
                  </td>
                  <td>
                    <GlossaryTerm v-if="glossary.has(g.kind)" :term="g.kind">{{ g.name }}</GlossaryTerm><template
                      v-else
                      >{{ g.name }}</template
                    >
                  </td>
                  <td class="quiet">
                    {{ g.reason
                    }}<span v-if="g.standing" class="d-block small"
                      ><GlossaryTerm term="standing rules">standing rule</GlossaryTerm> of {{ stage }}, not a rule of
                      this version</span
                    >
                  </td>
                  <td class="quiet text-nowrap"><TimeAgo v-if="g.since" :at="g.since" /></td>
                </tr>
                <tr v-if="data.gates.length === 0">
                  <td class="quiet">
                    {{ data.place.state === 'waiting' ? 'Evaluating gates…' : 'No gates were evaluated.' }}
                  </td>
                </tr>
              </tbody>
            </RowTable>
          </div>
          <p v-if="!looks && data.place.state === 'waiting'">
            <button type="button" class="btn btn-sm btn-outline-secondary" @click="curious = true">
              Show impact in {{ stage }}
            </button>
          </p>
          <template v-if="looks">
            <h2>
              Impact of
              {{ rest ? 'the remaining functions' : chosen.length ? `only ${some(chosen)}` : `version ${version}` }} in
              {{ stage }}
            </h2>
            <ProblemNote :problem="meaningProblem" />
            <details v-if="data.partial && (meaning?.differing?.length ?? 0) > 1" class="mb-2">
              <summary>Select functions</summary>
              <p class="quiet mb-1">The other functions stay unchanged in {{ stage }} and can be requested later.</p>
              <BFormCheckboxGroup
                :model-value="chosen"
                :options="meaning?.differing ?? []"
                aria-label="Functions to request"
                @update:model-value="(v) => (chosen = v ?? [])"
              />
            </details>
            <p v-if="!meaning && !meaningProblem" class="quiet">Computing the impact…</p>
            <div v-for="p in places" :key="p.targets[0]" class="mb-3">
              <p class="mb-1">
                {{ p.targets.join(' and ')
                }}{{ p.means.from ? ` (now version ${p.means.from})` : ' (not deployed yet)' }}:
                {{ count(p.means.steps, 'step') }}<template v-if="p.targets.length > 1"> each</template
                ><template v-if="p.means.functions.length">, {{ some(p.means.functions) }}</template>
              </p>
              <p v-for="w in p.means.blockers" :key="w.message" class="bad mb-1 wrap-anywhere">{{ w.message }}</p>
              <ImpactList :lines="p.means.impact" />
              <p v-if="p.means.from && p.means.from !== version" class="mt-2 mb-0">
                <RouterLink :to="{ name: 'compare', params: { service, version: p.means.from, other: version } }"
                  >Compare code and manifests with version {{ p.means.from }}</RouterLink
                >
              </p>
              <details v-if="p.means.steps" class="mt-2" :open="p.means.steps <= 60">
                <summary>Steps</summary>
                <PlacePlan :service="service" :stage="stage" :version="version" :target="p.targets[0] ?? ''" />
              </details>
            </div>
          </template>
          <h2>
            <GlossaryTerm term="case">Cases</GlossaryTerm>
            <span v-if="cases.length" class="quiet">{{
              failed
                ? `${failed} of ${cases.length} failed`
                : running
                  ? `${running} of ${cases.length} running`
                  : `all ${cases.length} passed`
            }}</span>
          </h2>
          <p v-if="mayRun" class="mb-2">
            <button type="button" class="btn btn-sm btn-outline-secondary" :disabled="busy" @click="runCases">
              {{ busy ? 'Running…' : 'Run cases now' }}
            </button>
            <span v-if="ran" class="quiet ms-2">Results of this run; the results after the deployment are kept</span>
          </p>
          <p v-if="cases.length === 0" class="quiet">
            {{
              ['settled', 'rolled-back', 'rejected', 'superseded'].includes(data.place.state)
                ? 'No cases ran in this stage.'
                : 'Cases run after the deployment.'
            }}
          </p>
          <CaseResult v-for="c in cases" :key="c.target + c.file + c.at" :run="c" />
        </section>
        <aside>
          <h2>Actions</h2>
          <div class="sheet sheet-pad mb-3">
            <ProblemNote :problem="asking ? null : actProblem" />
            <p v-if="agrees && meaning?.confirm" class="bad mb-2">{{ meaning.confirm }}.</p>
            <TypedConfirm
              v-model="asking"
              :title="`${words[doing]} in ${stage}`"
              :word="stage"
              :action="words[doing] ?? ''"
              :busy="busy"
              :problem="actProblem"
              @confirm="(typed) => act(doing, typed)"
              >{{ meaning?.confirm }}.</TypedConfirm
            >
            <template v-if="actions.length">
              <label
                v-if="data.actions.some((a) => ['approve', 'reject', 'rollback', 'override'].includes(a))"
                class="d-block mb-2"
                >Comment
                <input class="form-control" v-model="comment" placeholder="Reason" />
              </label>
              <label v-if="actions.includes('override')" class="d-block mb-2"
                >Override a gate with this reason
                <select class="form-select" v-model="gate">
                  <option value="">None</option>
                  <option v-for="g in overridable" :key="g.name">{{ g.name }}</option>
                </select>
              </label>
              <label v-if="actions.includes('request')" class="d-block mb-2"
                >Not before <span class="quiet">(optional)</span>
                <input v-model="at" type="datetime-local" class="form-control" />
              </label>
              <template v-for="a in actions" :key="a">
                <button
                  v-if="a === 'rollback' && !back"
                  type="button"
                  class="btn btn-outline-secondary me-2 mb-1"
                  @click="back = true"
                >
                  {{ words.rollback }}…
                </button>
                <button
                  v-else
                  type="button"
                  class="btn me-2 mb-1"
                  :class="a === 'reject' ? 'btn-outline-danger' : 'btn-primary'"
                  :disabled="
                    busy ||
                    (needsLook.includes(a) && !mayAgree) ||
                    (a === 'override' && (!gate || !comment.trim())) ||
                    (a === 'rollback' && !comment.trim())
                  "
                  @click="begin(a)"
                >
                  {{ words[a] }}{{ needsLook.includes(a) && meaning?.confirm ? '…' : '' }}
                </button>
              </template>
              <button
                v-if="actProblem?.status === 409"
                type="button"
                class="btn btn-sm btn-outline-secondary mb-1"
                @click="lookAgain()"
              >
                Refresh impact
              </button>
            </template>
            <p v-else class="quiet mb-0">
              {{
                data.shift?.active && data.actions.length
                  ? 'The traffic shift has its own actions.'
                  : 'No actions available.'
              }}
              <template v-if="data.place.blockedBy"
                >A gate that is not met does not pass by waiting: deliver a version that meets it, or override the
                gate.</template
              >
            </p>
          </div>
          <template v-if="data.approvals.length">
            <h2>Approvals</h2>
            <div class="sheet sheet-pad mb-3">
              <p v-for="a in data.approvals" :key="a.person" class="mb-1">
                <strong>{{ a.person }}</strong> <TimeAgo class="quiet" :at="a.at" /><br />{{ a.comment }}
              </p>
            </div>
          </template>
          <template v-if="data.viewers?.length && data.place.state === 'waiting'">
            <h2>Viewers of the impact</h2>
            <p class="mb-3">
              <span v-for="l in data.viewers" :key="l.person" class="me-3"
                >{{ l.person }} <TimeAgo class="quiet" :at="l.at"
              /></span>
            </p>
          </template>
          <h2>Digests</h2>
          <div class="sheet">
            <RowTable caption="Archive digests">
              <thead>
                <tr>
                  <th scope="col">Function</th>
                  <th scope="col">Version {{ version }}</th>
                  <th scope="col">In {{ stage }} now</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="d in shownDigests" :key="d.function">
                  <td>{{ d.function }}</td>
                  <td>
                    <code :title="d.digest">{{ digest(d.digest).slice(0, 8) }}</code>
                  </td>
                  <td>
                    <code v-if="d.deployed" :title="d.deployed">{{ digest(d.deployed).slice(0, 8) }}</code><span
                      v-else
                      class="quiet"
                      >none</span
                    >
                    <span class="ms-2" :class="d.digest === d.deployed ? 'good' : 'wait'">{{
                      d.digest === d.deployed ? 'identical' : 'different'
                    }}</span>
                  </td>
                </tr>
                <tr v-if="moreDigests">
                  <td colspan="3">
                    <button type="button" class="btn btn-link p-0" @click="moreOfDigests">
                      {{ moreDigests }} more
                    </button>
                  </td>
                </tr>
              </tbody>
            </RowTable>
          </div>
          <p class="quiet small mt-1">
            {{ same }} of {{ count(data.digests.length, 'archive') }} identical to the deployed ones.
          </p>
        </aside>
      </div>
    </template>
  </div>
</template>

<style scoped>
.split {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 23rem;
  gap: 1.25rem;
  align-items: start;
}
.gates .state {
  width: 5.5rem;
}
</style>
