<script setup lang="ts">
import type { Schemas } from '../api/client'
import { value } from '../words'

defineProps<{ drift: Schemas['Drifted'][]; stage: string; service: string }>()
</script>

<template>
  <section class="note mb-3" aria-label="Drift">
    <h2 class="drift">▨ Live is not what was recorded</h2>
    <table class="rows">
      <thead>
        <tr><th>resource</th><th>attribute</th><th>recorded</th><th>live</th></tr>
      </thead>
      <tbody>
        <template v-for="d in drift" :key="d.target + d.address">
          <tr v-for="a in d.attributes" :key="a.name">
            <td><code>{{ d.address }}</code> <span class="quiet">{{ d.target }}</span></td>
            <td>{{ a.name }}</td>
            <td class="wrap-anywhere">{{ value(a.recorded, a.unit) }}</td>
            <td class="wrap-anywhere drift">{{ value(a.live, a.unit) }}</td>
          </tr>
          <tr v-if="d.vanished">
            <td><code>{{ d.address }}</code></td>
            <td colspan="3" class="drift">it was taken away</td>
          </tr>
        </template>
      </tbody>
    </table>
    <RouterLink class="btn btn-primary btn-sm m-2" :to="{ name: 'plan', params: { service }, query: { stage, target: drift[0]?.target } }">Plan to put it right</RouterLink>
  </section>
</template>

<style scoped>
.note {
  background: var(--surface);
  border: 1px solid var(--heather);
  border-left-width: 3px;
  border-radius: 3px;
}
h2 {
  padding: 0.5rem 0.7rem 0;
}
</style>
