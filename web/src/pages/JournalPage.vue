<script setup lang="ts">
import { ask, client } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { useLoad } from '../composables/useLoad'
import { exact } from '../words'

const { service } = useFocus()
const { data, problem } = useLoad(() => ask(client.GET('/services/{service}/journal', { params: { path: { service: service.value } } })), {
  watch: () => service.value,
  topics: ['source', 'build', 'delivery', 'deployment'],
})
</script>

<template>
  <div class="page">
    <ProblemNote :problem="problem" />
    <div class="page-head">
      <h1>Journal</h1>
      <span class="quiet">what was done, by whom; nothing here is ever changed</span>
    </div>
    <div v-if="data" class="sheet overflow-auto">
      <table class="rows">
        <thead>
          <tr><th>when</th><th>who</th><th>stage</th><th>what</th><th></th></tr>
        </thead>
        <tbody>
          <tr v-for="e in data" :key="e.id">
            <td class="text-nowrap">{{ exact(e.at) }}</td>
            <td>{{ e.person || 'Rudmar' }}</td>
            <td>{{ e.stage }}</td>
            <td class="text-nowrap">{{ e.what }}</td>
            <td class="wrap-anywhere">{{ e.text }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>
