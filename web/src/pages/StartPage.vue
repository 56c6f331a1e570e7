<script setup lang="ts">
// Goes on to the service that runs in most stages, or says how to make one.
import { watch } from 'vue'
import { useRouter } from 'vue-router'

import { ask, client } from '../api/client'
import { useLoad } from '../composables/useLoad'
import { useLive } from '../stores/live'

const router = useRouter()
useLive().open()
const { data, problem } = useLoad(() => ask(client.GET('/services')), { topics: ['source', 'build'] })
watch(data, (services) => {
  const first = [...(services ?? [])].sort((a, b) => b.stages - a.stages)[0]
  if (first) void router.replace({ name: 'board', params: { service: first.name } })
})
</script>

<template>
  <main class="page">
    <ProblemNote :problem="problem" />
    <EmptyNote v-if="data && data.length === 0" title="There is no service yet" command="rudmar new service my-service">
      A service is a folder with a rudmar.yaml in a repository that Rudmar hosts.
      <RouterLink :to="{ name: 'services' }">Make a repository</RouterLink>, and push one to it; this command makes one
      that works, and says what to do next.
    </EmptyNote>
  </main>
</template>
