<script setup lang="ts">
// The provenance of a version in words, and its verification.
import { computed } from 'vue'

import { ask, client } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { count, writer } from '../words'

const props = defineProps<{ service: string; version: number }>()
const { data, problem } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/versions/{version}/provenance', {
        params: { path: { service: props.service, version: props.version } },
      }),
    ),
  {
    watch: () => `${props.service} ${props.version}`,
  },
)
const altered = computed(() => data.value?.verified.filter((v) => v.problem) ?? [])

function save(name: string, what: unknown): void {
  const link = document.createElement('a')
  link.href = URL.createObjectURL(new Blob([JSON.stringify(what, null, 2)], { type: 'application/json' }))
  link.download = name
  link.click()
  URL.revokeObjectURL(link.href)
}
</script>

<template>
  <section class="sheet sheet-pad mb-3" aria-label="Provenance">
    <ProblemNote :problem="problem" />
    <template v-if="data">
      <p class="mb-1">
        Built from commit <CopyText :text="data.commit" :label="data.commit.slice(0, 8)" /> on {{ data.branch }} of
        {{ data.repository }}, written by {{ writer(data) }}; signed with the key <code>{{ data.keyId }}</code> of this
        installation.
      </p>
      <p v-if="altered.length === 0" class="good mb-1">
        Verified just now: {{ count(data.verified.length, 'item') }}, all unchanged since the build.
      </p>
      <ul v-else class="bad mb-1">
        <li v-for="v in altered" :key="v.item">{{ v.item }}: {{ v.problem }}</li>
      </ul>
      <button
        type="button"
        class="btn btn-link p-0 me-3"
        @click="save(`${service}-${version}-provenance.json`, data.envelope)"
      >
        Provenance (in-toto, DSSE)
      </button>
      <button
        type="button"
        class="btn btn-link p-0"
        @click="save(`${service}-${version}-contents.json`, data.contents)"
      >
        Contents (CycloneDX)
      </button>
    </template>
  </section>
</template>
