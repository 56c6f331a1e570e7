<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { bytes, digest, writer } from '../words'

const route = useRoute()
const { service, stage } = useFocus()
const version = computed(() => Number(route.params.version))
const { data, problem, reload } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/versions/{version}', {
        params: { path: { service: service.value, version: version.value } },
      }),
    ),
  {
    watch: () => version.value,
    topics: ['deployment'],
  },
)
const shown = ref<{ function: string; file: Schemas['FileText'] } | null>(null)
const { problem: fileProblem, run } = useAction()

function open(fn: string, path: string): Promise<boolean> {
  return run(async () => {
    const at = { service: service.value, version: version.value, function: fn }
    shown.value = {
      function: fn,
      file: await ask(
        client.GET('/services/{service}/versions/{version}/functions/{function}/file', {
          params: { path: at, query: { path } },
        }),
      ),
    }
  })
}
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" :again="reload" />
    <template v-if="data">
      <div class="page-head">
        <h1>Version {{ data.version.number }}</h1>
        <span>{{ data.version.message }}</span>
        <span class="quiet"
          ><code>{{ data.version.hash.slice(0, 8) }}</code> on {{ data.version.branch }}, by {{ writer(data.version) }},
          built <TimeAgo :at="data.version.builtAt"
        /></span>
        <RouterLink :to="{ name: 'plan', params: { service }, query: { stage, version: data.version.number } }"
          >Plan for {{ stage }}</RouterLink
        >
        <RouterLink
          v-if="data.version.number > 1"
          :to="{ name: 'compare', params: { service, version: data.version.number - 1, other: data.version.number } }"
          >Compare with version {{ data.version.number - 1 }}</RouterLink
        >
      </div>
      <p class="quiet">
        {{ data.version.stages.length ? `Deployed in ${data.version.stages.join(', ')}.` : 'Not deployed.' }} Each
        archive is identified by the SHA-256 of its listing; every stage runs the same bytes.
      </p>
      <ProvenanceNote :service="service" :version="version" />
      <div class="sheet overflow-auto mb-3">
        <RowTable caption="Archives by function">
          <thead>
            <tr>
              <th scope="col">Function</th>
              <th scope="col">Digest</th>
              <th scope="col" class="number">Archive</th>
              <th scope="col">Files</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="f in data.functions" :key="f.function">
              <td>
                {{ f.function }}
                <div class="quiet">{{ f.changed ? 'changed' : 'unchanged' }}</div>
              </td>
              <td><CopyText :text="f.digest" :label="digest(f.digest)" /></td>
              <td class="number text-nowrap">
                <a
                  :href="`/api/services/${service}/versions/${version}/functions/${f.function}/archive`"
                  :download="`${f.function}-${version}.zip`"
                  >{{ bytes(f.bytes) }}</a
                >
              </td>
              <td>
                <div v-for="file in f.files" :key="file.path">
                  <button type="button" class="btn btn-link p-0" @click="open(f.function, file.path)">
                    {{ file.path }}
                  </button>
                  <span class="quiet ms-2"
                    >{{ bytes(file.size) }} · {{ file.mode }} ·
                    <code :title="file.sha256">{{ file.sha256.slice(0, 8) }}</code></span
                  >
                </div>
              </td>
            </tr>
          </tbody>
        </RowTable>
      </div>
      <ProblemNote :problem="fileProblem" />
      <section v-if="shown" class="mb-3">
        <h2>{{ shown.file.path }} in {{ shown.function }}</h2>
        <pre class="block">{{ shown.file.binary ? 'Binary file' : shown.file.text }}</pre>
      </section>
      <h2>Build log</h2>
      <pre class="block">{{ data.log }}</pre>
    </template>
  </div>
</template>
