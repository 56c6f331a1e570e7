<script setup lang="ts">
// A difference between recorded and actual state: a line that expands, with four actions.
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'

import { ask, client, Problem, type Schemas } from '../api/client'
import { putDraft } from '../composables/useDraft'
import { useAction } from '../composables/useAction'
import { useLoad } from '../composables/useLoad'
import { useLine } from '../stores/line'
import { useSession } from '../stores/session'
import { count, some, value } from '../words'

const props = defineProps<{ drift: Schemas['Drifted'][]; stage: string; service: string; functionName: string }>()
const router = useRouter()
const session = useSession()
const open = ref(false)
const line = useLine()
/** The deployed version, whose plan reverts the drift. */
const version = computed(() => line.line?.stages.find((s) => s.stage === props.stage)?.version || undefined)
const { data, problem, reload } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/drift', {
        params: { path: { service: props.service }, query: { stage: props.stage } },
      }),
    ),
  { watch: () => [props.service, props.stage].join(' '), topics: ['observation', 'deployment'] },
)
const rows = computed(() => (data.value ?? []).filter((d) => d.function === props.functionName && !d.drift.follows))

/** The drift, in one line. */
const heads = computed(() => props.drift.filter((d) => !d.follows))
const said = computed(() => {
  const first = heads.value[0]
  if (!first) return ''
  const what = first.vanished
    ? `${first.address} was deleted outside Rudmar`
    : first.unknown
      ? `${first.address} is an unmanaged resource`
      : first.attributes
          .slice(0, 2)
          .map((a) => `${a.name} ${value(a.recorded, a.unit)} → ${value(a.actual, a.unit)}`)
          .join(', ')
  const more = heads.value.length - 1
  return more > 0 ? `${what}, and ${count(more, 'resource')} more` : what
})
const left = computed(() =>
  heads.value.every((d) => d.ignored || (d.attributes.length > 0 && d.attributes.every((a) => a.ignored))),
)

const { busy, problem: actProblem, run } = useAction()
const placeOf = (d: Schemas['Drifted'], attribute = ''): Schemas['DriftLocation'] => ({
  stage: props.stage,
  target: d.target,
  address: d.address,
  attribute: attribute || undefined,
})
async function leave(place: Schemas['DriftLocation'], reason: string, until?: number): Promise<void> {
  await run(() =>
    ask(
      client.POST('/services/{service}/drift/ignored', {
        params: { path: { service: props.service } },
        body: { place, reason, until },
      }),
    ),
  )
  await reload()
}
async function leaveNoMore(place: Schemas['DriftLocation']): Promise<void> {
  await run(() =>
    ask(
      client.POST('/services/{service}/drift/unignored', {
        params: { path: { service: props.service } },
        body: place,
      }),
    ),
  )
  await reload()
}
/** Creates the edit that copies all drifted values of the function to the manifest, and opens it. */
async function takeOver(place: Schemas['DriftLocation']): Promise<void> {
  await run(async () => {
    const got = await ask(
      client.POST('/services/{service}/drift/copied', { params: { path: { service: props.service } }, body: place }),
    )
    const message = `Copy ${some(got.attributes)} from ${place.stage} to the manifest`
    const files = Object.entries(got.files)
    const draft = { at: Date.now(), base: got.commit, message, files }
    if (!putDraft(props.service, got.branch, session.person?.username ?? '', draft))
      throw new Problem(409, `You have an uncommitted edit of ${got.branch}; commit or discard it first.`)
    await router.push({
      name: 'source',
      params: { service: props.service },
      query: { stage: props.stage, file: files[0]?.[0], take: '1' },
    })
  })
}
</script>

<template>
  <section class="note mb-3" aria-label="Drift">
    <p class="head">
      <button type="button" class="fold" :aria-expanded="open" @click="open = !open">
        <strong class="drift">▨ {{ left ? 'Ignored drift:' : 'Actual state differs from the record:' }}</strong>
        {{ said }}
      </button>
      <RouterLink
        v-if="!left"
        :to="{ name: 'plan', params: { service }, query: { stage, target: drift[0]?.target, version } }"
        >Revert drift…</RouterLink
      >
    </p>
    <ProblemNote :problem="problem" :again="reload" />
    <ProblemNote :problem="actProblem" />
    <RowTable caption="Differences" v-if="open">
      <thead>
        <tr>
          <th scope="col">Resource</th>
          <th scope="col">Attribute</th>
          <th scope="col">Recorded</th>
          <th scope="col">Actual</th>
          <th scope="col">Detected</th>
          <th scope="col">Actions</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="r in rows" :key="r.drift.target + r.drift.address">
          <tr v-for="a in r.drift.attributes" :key="a.name">
            <td>
              <code>{{ r.drift.address }}</code> <span class="quiet">{{ r.drift.target }}</span>
            </td>
            <td>{{ a.name }}</td>
            <td class="wrap-anywhere">{{ value(a.recorded, a.unit) }}</td>
            <td class="wrap-anywhere drift">{{ value(a.actual, a.unit) }}</td>
            <td>
              <TimeAgo v-if="a.since" :at="a.since" />
              <span v-if="r.drift.by" class="quiet d-block small wrap-anywhere">by request {{ r.drift.by }}</span>
              <span class="quiet d-block small"
                >{{ count(r.invocations, 'invocation') }} since, {{ r.errors }} failed</span
              >
            </td>
            <td>
              <button
                v-if="!a.ignored && r.copyable.includes(a.name) && session.may('write')"
                type="button"
                class="btn btn-link p-0 me-3"
                :disabled="busy"
                @click="takeOver(placeOf(r.drift, a.name))"
              >
                Copy to manifest
              </button>
              <DriftIgnore
                :left="a.ignored"
                :busy="busy"
                :may="session.may('deploy')"
                @leave="(reason, until) => leave(placeOf(r.drift, a.name), reason, until)"
                @end="leaveNoMore(placeOf(r.drift, a.name))"
              />
            </td>
          </tr>
          <tr v-if="r.drift.vanished || r.drift.unknown">
            <td>
              <code>{{ r.drift.address }}</code> <span class="quiet">{{ r.drift.target }}</span>
            </td>
            <td colspan="3" class="drift">
              {{ r.drift.vanished ? 'deleted outside Rudmar' : 'unmanaged resource: declare it to adopt it, or' }}
              <RouterLink
                v-if="r.drift.unknown"
                :to="{
                  name: 'plan',
                  params: { service },
                  query: { stage, target: r.drift.target, deletions: r.drift.address },
                }"
                >plan its deletion</RouterLink
              >
            </td>
            <td><TimeAgo v-if="r.drift.since" :at="r.drift.since" /></td>
            <td>
              <DriftIgnore
                :left="r.drift.ignored"
                :busy="busy"
                :may="session.may('deploy')"
                @leave="(reason, until) => leave(placeOf(r.drift), reason, until)"
                @end="leaveNoMore(placeOf(r.drift))"
              />
            </td>
          </tr>
        </template>
      </tbody>
    </RowTable>
  </section>
</template>

<style scoped>
.note {
  background: var(--surface);
  border: 1px solid var(--heather);
  border-left-width: 3px;
  border-radius: 3px;
}
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
  align-items: baseline;
  margin: 0;
  padding: 0.3rem 0.7rem;
}
.fold {
  border: 0;
  padding: 0.1rem 0;
  background: none;
  color: inherit;
  text-align: left;
  overflow-wrap: anywhere;
}
.fold::before {
  content: '▸ ';
}
.fold[aria-expanded='true']::before {
  content: '▾ ';
}
</style>
