<script setup lang="ts">
import { computed, ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { useRows } from '../composables/useRows'
import { bytes, count, stateText } from '../words'

const { service, stage } = useFocus()
const { data, problem, pending, reload } = useLoad(
  () => ask(client.GET('/services/{service}/board', { params: { path: { service: service.value } } })),
  {
    watch: () => service.value,
    topics: ['source', 'build', 'delivery', 'gates', 'deployment', 'observation', 'secret'],
  },
)

const { data: journal } = useLoad(
  () => ask(client.GET('/services/{service}/journal', { params: { path: { service: service.value } } })),
  { watch: () => service.value, topics: ['source', 'build', 'delivery', 'deployment'] },
)
/** The results, without intermediate steps. */
const latest = computed(() =>
  (journal.value ?? [])
    .filter(
      (e) =>
        !['signed in', 'deploying'].includes(e.action) && !/ is (planning|deploying|testing|waiting)$/.test(e.text),
    )
    .slice(0, 8),
)

const text = useAddress('find', '')
const rows = computed(() => {
  const words = text.value.toLowerCase().split(/\s+/)
  return (data.value?.rows ?? []).filter((r) =>
    words.every((w) => `${r.function} ${r.description ?? ''} ${r.triggers.join(' ')}`.toLowerCase().includes(w)),
  )
})

const body = ref<HTMLElement | null>(null)
const { inView, before, after, measure } = useRows(() => rows.value, 58, body)

function share(c: Schemas['BoardCell']): number {
  return c.memoryPeak && c.memoryLimit ? Math.min(100, (100 * c.memoryPeak) / c.memoryLimit) : 0
}

const grid = ref<HTMLElement | null>(null)
function step(e: KeyboardEvent): void {
  const cells = [...(grid.value?.querySelectorAll<HTMLElement>('[data-cell]') ?? [])]
  const at = cells.indexOf(document.activeElement as HTMLElement)
  const across = data.value?.stages.length ?? 1
  const by = { ArrowLeft: -1, ArrowRight: 1, ArrowUp: -across, ArrowDown: across }[e.key]
  if (at < 0 || by === undefined) return
  e.preventDefault()
  cells[at + by]?.focus()
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <PageWait v-if="pending" :lines="10" />
    <div v-if="data" class="board">
      <section aria-label="Functions by stages">
        <div class="page-head">
          <h1><GlossaryTerm term="Board">Board</GlossaryTerm></h1>
          <input
            v-model="text"
            class="form-control find"
            type="search"
            placeholder="Filter by name, trigger or text"
            aria-label="Filter"
          />
          <span class="quiet">{{ count(rows.length, 'function') }}</span>
        </div>
        <EmptyNote v-if="data.rows.length === 0" title="No functions yet" command="git push origin main">
          No version has been built. Push a commit to the branch of the first stage.
        </EmptyNote>
        <div v-else ref="grid" class="sheet overflow-auto" @keydown="step">
          <RowTable caption="Functions by stages" :aria-rowcount="rows.length + 1">
            <thead>
              <tr>
                <th scope="col">Function</th>
                <th v-for="s in data.stages" :key="s" scope="col" :class="{ focused: s === stage }">{{ s }}</th>
              </tr>
            </thead>
            <tbody ref="body">
              <tr v-if="before" aria-hidden="true" :style="{ height: `${before}px` }" />
              <tr
                v-for="{ row: r, index } in inView"
                :key="r.function"
                :ref="measure"
                :data-index="index"
                :aria-rowindex="index + 2"
              >
                <td class="fn">
                  <RouterLink :to="{ name: 'function', params: { service, function: r.function }, query: { stage } }">{{
                    r.function
                  }}</RouterLink>
                  <div class="quiet clip" :title="r.triggers.join('\n')">
                    {{ r.triggers.join(' · ') || 'no triggers' }}
                  </div>
                </td>
                <td v-for="c in r.cells" :key="c.stage" :class="{ focused: c.stage === stage }">
                  <RouterLink
                    v-if="c.deployed"
                    class="cell link-plain"
                    data-cell
                    :to="{ name: 'function', params: { service, function: r.function }, query: { stage: c.stage } }"
                  >
                    <span class="top">
                      <span>version {{ c.version }}</span>
                      <TimeAgo v-if="c.at" class="quiet" :at="c.at" />
                      <span v-if="c.drifted" class="drift">▨ drifted</span>
                    </span>
                    <span class="low">
                      <span
                        class="bar"
                        :title="`memory peak ${bytes(c.memoryPeak ?? 0)} of ${bytes(c.memoryLimit ?? 0)} in the last hour`"
                      >
                        <span :class="{ close: share(c) > 85 }" :style="{ width: `${share(c)}%` }" />
                      </span>
                      <span v-if="c.memoryPeak && c.memoryLimit" :class="share(c) > 85 ? 'bad' : 'quiet'"
                        >{{ Math.round(share(c)) }}%</span
                      >
                      <span class="quiet">{{
                        c.invocations ? count(c.invocations, 'invocation') : 'no invocations'
                      }}</span>
                      <span v-if="c.errors" class="bad">▲ {{ c.errors }} failed</span>
                      <span v-if="c.missingFrom" class="wait">not in version {{ c.missingFrom }}</span>
                      <span v-else-if="c.behind" class="wait">{{ c.behind }} behind</span>
                    </span>
                  </RouterLink>
                  <span v-else class="quiet"
                    >not deployed<span v-if="c.missingFrom" class="wait"
                      >, not in version {{ c.missingFrom }}</span
                    ></span
                  >
                </td>
              </tr>
              <tr v-if="after" aria-hidden="true" :style="{ height: `${after}px` }" />
            </tbody>
          </RowTable>
        </div>
        <p class="quiet small mt-2 mb-0">
          The bar shows the memory peak of the last hour as a share of the limit. “Behind” counts newer versions that
          changed the function.
        </p>
        <h2 class="mt-3">Recent activity</h2>
        <div class="sheet">
          <p v-for="e in latest" :key="e.id" class="event">
            <TimeAgo class="quiet" :at="e.at" /> <strong>{{ e.person || 'Rudmar' }}</strong> {{ e.action
            }}<template v-if="e.stage"> in {{ e.stage }}</template
            ><span v-if="e.text" class="quiet">: {{ e.text }}</span>
          </p>
          <p class="event"><RouterLink :to="{ name: 'journal', params: { service } }">Show journal</RouterLink></p>
        </div>
      </section>
      <aside aria-label="Needs attention">
        <h2>Needs attention</h2>
        <div class="sheet">
          <RouterLink v-for="n in data.attention" :key="n.text" class="need link-plain" :to="`/s/${service}/${n.path}`">
            <span
              class="kind"
              :class="{
                drift: n.kind === 'drift',
                wait: ['approval', 'secret', 'left'].includes(n.kind),
                bad: !['drift', 'approval', 'secret', 'left'].includes(n.kind),
              }"
              >{{ stateText(n.kind) }}</span
            >
            {{ n.text }}
          </RouterLink>
          <p v-if="data.attention.length === 0" class="quiet sheet-pad mb-0">Nothing needs attention.</p>
        </div>
      </aside>
    </div>
  </div>
</template>

<style scoped>
.board {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 18rem;
  gap: 1.25rem;
}
.find {
  width: 16rem;
}
.fn {
  min-width: 9rem;
  max-width: 14rem;
}
th.focused {
  color: var(--fjord) !important;
}
.cell {
  display: block;
  min-width: 0;
}
.cell:hover {
  text-decoration: none;
}
.top,
.low {
  display: flex;
  gap: 0 0.6rem;
  align-items: center;
  flex-wrap: wrap;
  white-space: nowrap;
}
.low {
  font-size: 0.8125rem;
  flex-wrap: wrap;
  gap: 0 0.6rem;
}
.bar {
  width: 3.5rem;
  height: 5px;
  background: var(--wash);
  border: 1px solid var(--rule);
  flex: none;
}
.bar span {
  display: block;
  height: 100%;
  background: var(--quiet);
}
.bar span.close {
  background: var(--clay);
}
.need {
  display: block;
  padding: 0.45rem 0.8rem;
  border-bottom: 1px solid color-mix(in srgb, var(--rule) 60%, transparent);
  overflow-wrap: anywhere;
}
.need:last-child {
  border-bottom: 0;
}
.need:hover {
  background: var(--wash);
  text-decoration: none;
}
.event {
  padding: 0.35rem 0.8rem;
  margin: 0;
  font-size: 0.8125rem;
  border-bottom: 1px solid color-mix(in srgb, var(--rule) 60%, transparent);
  overflow-wrap: anywhere;
}
.event:last-child {
  border-bottom: 0;
}
.kind {
  font-weight: 600;
  margin-right: 0.3rem;
}
</style>
