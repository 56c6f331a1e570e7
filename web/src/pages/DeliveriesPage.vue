<script setup lang="ts">
import { computed } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useAddress } from '../composables/useAddress'
import { useParts } from '../composables/useParts'
import { useLine } from '../stores/line'
import { stateText, writer } from '../words'

const line = useLine()
const { service, stage } = useFocus()
const find = useAddress('find', '')
const state = useAddress('state', '')
const states: Schemas['DeliveryState'][] = [
  'waiting',
  'deploying',
  'shifting',
  'testing',
  'settled',
  'failed',
  'rejected',
  'rolled-back',
  'superseded',
]
const { rows, more, older, problem, pending, reload } = useParts(
  (before) =>
    ask(
      client.GET('/services/{service}/deliveries', {
        params: {
          path: { service: service.value },
          query: { before, text: find.value || undefined, state: state.value || undefined },
        },
      }),
    ),
  (d) => d.version,
  { watch: () => [service.value, find.value, state.value].join('\n'), topics: ['build', 'delivery'] },
)
const narrowed = computed(() => find.value !== '' || state.value !== '')

function place(d: Schemas['Delivery'], name: string): Schemas['DeliveryPlace'] | undefined {
  return d.stages.find((s) => s.stage === name)
}
function here(name: string): number {
  return line.line?.stages.find((s) => s.stage === name)?.version ?? 0
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <div class="page-head">
      <h1><GlossaryTerm term="delivery">Deliveries</GlossaryTerm></h1>
      <span class="quiet">Newest version first; the deployed version of each stage is underlined</span>
    </div>
    <div class="controls">
      <input
        v-model.lazy="find"
        class="form-control"
        type="search"
        placeholder="Filter by message, author, commit or number"
        aria-label="Filter"
      />
      <select v-model="state" class="form-select" aria-label="State">
        <option value="">Any state</option>
        <option v-for="s in states" :key="s" :value="s">{{ stateText(s) }} in any stage</option>
      </select>
    </div>
    <PageWait v-if="pending" />
    <p v-if="rows && rows.length === 0 && narrowed" class="quiet">No matching versions.</p>
    <EmptyNote v-else-if="rows && rows.length === 0" title="No deliveries" command="git push origin main"
      >Push a commit to the branch of the first stage to build a version and start its delivery.</EmptyNote
    >
    <div v-else-if="rows" class="sheet overflow-auto" tabindex="-1">
      <RowTable caption="Deliveries">
        <thead>
          <tr>
            <th scope="col" class="number">Version</th>
            <th scope="col">Commit</th>
            <th v-for="s in line.stages" :key="s" scope="col" :class="{ move: s === stage }">{{ s }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="d in rows" :key="d.version">
            <td class="number">
              <RouterLink :to="{ name: 'version', params: { version: d.version } }">{{ d.version }}</RouterLink>
            </td>
            <td>
              {{ d.message }}
              <div class="quiet">{{ writer(d) }}, built <TimeAgo :at="d.at" /></div>
            </td>
            <td v-for="s in line.stages" :key="s" class="stage">
              <RouterLink
                v-if="place(d, s)"
                class="link-plain d-block"
                :to="{ name: 'delivery', params: { version: d.version, stage: s } }"
              >
                <span :class="{ here: here(s) === d.version }"><StateWord :state="place(d, s)?.state ?? ''" /></span>
                <span class="quiet ms-2"><TimeAgo :at="place(d, s)?.since ?? 0" /></span>
                <span v-if="place(d, s)?.blockedBy" class="bad why" :title="place(d, s)?.blockedBy">{{
                  place(d, s)?.blockedBy
                }}</span>
                <span v-else-if="place(d, s)?.reason" class="quiet why" :title="place(d, s)?.reason">{{
                  place(d, s)?.reason
                }}</span>
              </RouterLink>
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <MoreRows :more="more" :older="older" what="versions" />
    <DeliveryMeasures />
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
