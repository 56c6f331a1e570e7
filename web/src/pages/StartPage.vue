<script setup lang="ts">
// Opens the service that is deployed in most stages, or explains how to create one.
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
    <EmptyNote v-if="data && data.length === 0" title="No services" command="rudmar new service my-service">
      A service is a folder with a rudmar.yaml in a repository that Rudmar hosts.
      <RouterLink :to="{ name: 'services' }">Create a repository</RouterLink>, and push a service to it. This command
      creates a service that works and prints the next step.
    </EmptyNote>
  </main>
</template>
