<script setup lang="ts">
import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { count } from '../words'

const { service } = useFocus()
const { data, problem } = useLoad(() => ask(client.GET('/services/{service}/versions', { params: { path: { service: service.value } } })), {
  watch: () => service.value,
  topics: ['build', 'deployment'],
})
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" />
    <div class="page-head">
      <h1>Versions</h1>
      <span v-if="data" class="quiet">{{ count(data.length, 'version') }}; what a version holds never changes</span>
    </div>
    <EmptyNote v-if="data && data.length === 0" title="No version yet" command="git push origin main">A version is built from each commit on a branch that a stage takes.</EmptyNote>
    <div v-else-if="data" class="sheet overflow-auto">
      <table class="rows">
        <thead>
          <tr>
            <th class="number">version</th>
            <th>commit</th>
            <th>by</th>
            <th>built</th>
            <th>functions that changed</th>
            <th>runs in</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="v in data" :key="v.number">
            <td class="number">
              <RouterLink :to="{ name: 'version', params: { service, version: v.number } }">{{ v.number }}</RouterLink>
            </td>
            <td><code class="quiet">{{ v.hash.slice(0, 8) }}</code> {{ v.message }}</td>
            <td>{{ v.author }}</td>
            <td><TimeAgo :at="v.builtAt" /></td>
            <td>{{ v.changed.length === v.functions ? `all ${v.functions}` : v.changed.join(', ') || 'none' }}</td>
            <td>
              <template v-if="v.stages.length">{{ v.stages.join(', ') }}</template>
              <span v-else class="quiet">nowhere</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
