<script setup lang="ts">
import { computed, defineAsyncComponent } from 'vue'
import { useRoute } from 'vue-router'

import { ask, client, type Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { bytes, count, value } from '../words'

const DiffView = defineAsyncComponent(() => import('../components/DiffView.vue'))
const route = useRoute()
const { service } = useFocus()
const version = computed(() => Number(route.params.version))
const other = computed(() => Number(route.params.other))
const { data, problem, reload } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/versions/{version}/compare/{other}', {
        params: { path: { service: service.value, version: version.value, other: other.value } },
      }),
    ),
  { watch: () => `${service.value} ${version.value} ${other.value}` },
)
const places = computed(() => {
  const out = new Map<string, Schemas['ResourceChange'][]>()
  for (const r of data.value?.resources ?? []) {
    const at = `${r.stage} on ${r.target}`
    out.set(at, [...(out.get(at) ?? []), r])
  }
  return [...out]
})
const same = computed(
  () => data.value && data.value.manifests.length + data.value.files.length + data.value.resources.length === 0,
)
function size(c: Schemas['FileChange']): string {
  const [before, after] = [c.bytesBefore, c.bytesAfter]
  if (before !== undefined && after !== undefined)
    return before === after ? `${bytes(after)}, different content` : `${bytes(before)} → ${bytes(after)}`
  return bytes(after ?? before ?? 0)
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <template v-if="data">
      <div class="page-head">
        <h1>Version {{ data.from.number }} and version {{ data.to.number }}</h1>
        <span class="quiet">{{ data.from.message }} → {{ data.to.message }}</span>
        <RouterLink
          class="ms-auto"
          :to="{ name: 'compare', params: { service, version: data.to.number, other: data.from.number } }"
          >Swap versions</RouterLink
        >
      </div>
      <p v-if="same">The versions are identical.</p>
      <h2>Archive files</h2>
      <p v-if="data.files.length === 0" class="quiet">All archives are identical.</p>
      <div v-else class="sheet mb-3">
        <RowTable caption="Different files">
          <tbody>
            <tr v-for="f in data.files" :key="`${f.function} ${f.path}`">
              <td>{{ f.function }}</td>
              <td>
                <code>{{ f.path }}</code>
              </td>
              <td>{{ f.change }}</td>
              <td class="quiet">{{ size(f) }}</td>
            </tr>
          </tbody>
        </RowTable>
      </div>
      <h2>Rendered resources</h2>
      <p v-if="places.length === 0" class="quiet">Identical resources in every stage.</p>
      <details v-for="([at, list], i) in places" :key="at" class="sheet sheet-pad mb-2" :open="i === 0">
        <summary>{{ at }}: {{ count(list.length, 'resource') }}</summary>
        <div v-for="r in list" :key="r.address" class="mt-1">
          <code>{{ r.address }}</code> <span class="quiet">{{ r.change }}</span>
          <div v-for="a in r.attributes" :key="a.name" class="attribute">
            <span class="quiet">{{ a.name }}</span>
            <span v-if="r.change === 'changed'" class="wrap-anywhere"
              >{{ value(a.before, a.unit) }} → {{ value(a.after, a.unit) }}</span
            ><span v-else class="wrap-anywhere">{{ value(a.after, a.unit) }}</span>
          </div>
        </div>
      </details>
      <h2 class="mt-3">Manifests</h2>
      <p v-if="data.manifests.length === 0" class="quiet">All manifests are identical.</p>
      <DiffView
        v-for="m in data.manifests"
        :key="m.path"
        :title="m.path"
        :before="m.before ?? ''"
        :after="m.after ?? ''"
        :sides="`left: version ${data.from.number}; right: version ${data.to.number}`"
      />
    </template>
  </div>
</template>

<style scoped>
.attribute {
  display: grid;
  grid-template-columns: 8rem minmax(0, 1fr);
  padding-left: 1.2rem;
}
</style>
