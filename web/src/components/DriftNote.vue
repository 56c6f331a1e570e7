<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { count, value } from '../words'

const props = defineProps<{ drift: Schemas['Drifted'][]; stage: string; service: string }>()

const open = ref(false)

/** What was changed by hand, in a line. */
const said = computed(() => {
  const first = props.drift[0]
  if (!first) return ''
  const what = first.vanished
    ? `${first.address} is gone`
    : first.attributes
        .slice(0, 2)
        .map((a) => `${a.name} ${value(a.recorded, a.unit)} → ${value(a.live, a.unit)}`)
        .join(', ')
  const more = props.drift.length - 1
  return more > 0 ? `${what}, and ${count(more, 'resource')} more` : what
})
</script>

<template>
  <section class="note mb-3" aria-label="Drift">
    <p class="head">
      <button type="button" class="fold" :aria-expanded="open" @click="open = !open">
        <strong class="drift">▨ Live is not what was recorded:</strong> {{ said }}
      </button>
      <RouterLink :to="{ name: 'plan', params: { service }, query: { stage, target: drift[0]?.target } }"
        >Plan to put it right</RouterLink
      >
    </p>
    <table v-if="open" v-stack class="rows">
      <thead>
        <tr>
          <th scope="col">resource</th>
          <th scope="col">attribute</th>
          <th scope="col">recorded</th>
          <th scope="col">live</th>
        </tr>
      </thead>
      <tbody>
        <template v-for="d in drift" :key="d.target + d.address">
          <tr v-for="a in d.attributes" :key="a.name">
            <td>
              <code>{{ d.address }}</code> <span class="quiet">{{ d.target }}</span>
            </td>
            <td>{{ a.name }}</td>
            <td class="wrap-anywhere">{{ value(a.recorded, a.unit) }}</td>
            <td class="wrap-anywhere drift">{{ value(a.live, a.unit) }}</td>
          </tr>
          <tr v-if="d.vanished">
            <td>
              <code>{{ d.address }}</code>
            </td>
            <td colspan="3" class="drift">it was taken away</td>
          </tr>
        </template>
      </tbody>
    </table>
  </section>
</template>

<style scoped>
.note {
  background: var(--surface);
  border: 1px solid var(--heather);
  border-left-width: 3px;
  border-radius: 3px;
}
.head {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1rem;
  align-items: baseline;
  margin: 0;
  padding: 0.3rem 0.7rem;
}
.fold {
  border: 0;
  padding: 0.1rem 0;
  background: none;
  color: inherit;
  text-align: left;
  overflow-wrap: anywhere;
}
.fold::before {
  content: '▸ ';
}
.fold[aria-expanded='true']::before {
  content: '▾ ';
}
</style>
