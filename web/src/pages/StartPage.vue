<script setup lang="ts">
// Goes on to the first service, or says how to make one.
import { watch } from 'vue'
import { useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { useLive } from '../stores/live'

const router = useRouter()
useLive().open()
const { data, problem } = useLoad(() => ask(client.GET('/services')), { topics: ['source', 'build'] })
watch(data, (services) => {
  const first = services?.[0]
  if (first) void router.replace({ name: 'board', params: { service: first.name } })
})
</script>

<template>
  <main class="page">
    <ProblemNote :problem="problem" />
    <EmptyNote v-if="data && data.length === 0" title="There is no service yet"
      command="curl -u HANDLE -H 'Content-Type: application/json' -d '{&quot;name&quot;: &quot;my-services&quot;}' http://127.0.0.1:7070/api/repositories">
      A service is a folder with a rudmar.yaml in a repository that Rudmar hosts. Make a repository, and push one to it; examples/ in Rudmar's own
      sources has some to copy.
    </EmptyNote>
  </main>
</template>
