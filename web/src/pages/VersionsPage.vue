<script setup lang="ts">
import { computed, ref } from 'vue'

import { ask, client } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { useParts } from '../composables/useParts'
import { count, some, writer } from '../words'

const { service } = useFocus()
const find = useAddress('find', '')
const {
  rows: data,
  more,
  older,
  problem,
  pending,
  reload: again,
} = useParts(
  (before) =>
    ask(
      client.GET('/services/{service}/versions', {
        params: { path: { service: service.value }, query: { before, text: find.value || undefined } },
      }),
    ),
  (v) => v.number,
  { watch: () => `${service.value}\n${find.value}`, topics: ['build', 'deployment'] },
)
const { data: builds, reload } = useLoad(
  () => ask(client.GET('/services/{service}/builds', { params: { path: { service: service.value } } })),
  {
    watch: () => service.value,
    topics: ['build', 'source'],
  },
)
/** Running builds, and the newest one if it failed. */
const shownBuilds = computed(
  () =>
    builds.value?.filter(
      (b, i) => b.state === 'running' || b.state === 'queued' || (i === 0 && b.state !== 'succeeded'),
    ) ?? [],
)

/** Up to two versions to compare, the older one first. */
const picked = ref<number[]>([])
function pick(version: number): void {
  picked.value = picked.value.includes(version)
    ? picked.value.filter((v) => v !== version)
    : [...picked.value, version].slice(-2).sort((a, b) => a - b)
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="again" />
    <div class="page-head">
      <h1>Versions</h1>
      <input
        v-model.lazy="find"
        class="form-control find"
        type="search"
        placeholder="Filter by message, author, commit or number"
        aria-label="Filter"
      />
      <span v-if="data" class="quiet"
        >{{ more ? 'Newest' : '' }} {{ count(data.length, 'version') }}; versions never change</span
      >
      <RouterLink
        v-if="picked.length === 2"
        class="btn btn-primary btn-sm ms-auto"
        :to="{ name: 'compare', params: { service, version: picked[0], other: picked[1] } }"
        >Compare {{ picked[0] }} with {{ picked[1] }}</RouterLink
      >
      <span v-else-if="picked.length === 1" class="quiet ms-auto"
        >Select another version to compare with version {{ picked[0] }}</span
      >
      <span v-else-if="data && data.length > 1" class="quiet ms-auto">Select two versions to compare</span>
    </div>
    <BuildNote v-for="b in shownBuilds" :key="b.id" :build="b" :service="service" @changed="reload" />
    <PageWait v-if="pending" />
    <p v-if="data && data.length === 0 && find" class="quiet">No matching versions.</p>
    <EmptyNote
      v-else-if="data && data.length === 0 && shownBuilds.length === 0"
      title="No versions"
      command="git push origin main"
      >Push a commit to a branch that a stage deploys to build a version.</EmptyNote
    >
    <div v-else-if="data && data.length" class="sheet overflow-auto" tabindex="-1">
      <RowTable caption="Versions, newest first">
        <thead>
          <tr>
            <th scope="col"><span class="visually-hidden">Compare</span></th>
            <th scope="col" class="number">Version</th>
            <th scope="col">Commit</th>
            <th scope="col">Author</th>
            <th scope="col">Built</th>
            <th scope="col">Changed functions</th>
            <th scope="col">Deployed in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="v in data" :key="v.number">
            <td>
              <input
                type="checkbox"
                class="form-check-input"
                :checked="picked.includes(v.number)"
                :aria-label="`Compare version ${v.number}`"
                @change="pick(v.number)"
              />
            </td>
            <td class="number">
              <RouterLink :to="{ name: 'version', params: { service, version: v.number } }">{{ v.number }}</RouterLink>
            </td>
            <td><CopyText :text="v.hash" :label="v.hash.slice(0, 8)" quiet /> {{ v.message }}</td>
            <td>{{ writer(v) }}</td>
            <td><TimeAgo :at="v.builtAt" /></td>
            <td>{{ v.changed.length === v.functions ? `all ${v.functions}` : some(v.changed) || 'none' }}</td>
            <td>
              <template v-if="v.stages.length">{{ v.stages.join(', ') }}</template>
              <span v-else class="quiet">not deployed</span>
            </td>
          </tr>
        </tbody>
      </RowTable>
    </div>
    <MoreRows :more="more" :older="older" what="versions" />
  </div>
</template>

<style scoped>
.find {
  width: 17rem;
}
</style>
