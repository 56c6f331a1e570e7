<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { count, value } from '../words'

const props = defineProps<{
  step: Schemas['Step']
  withPhase?: boolean
  authors?: Record<string, Schemas['FileCommit']>
  plain?: boolean
}>()
/** The inputs of a digest matter, not the digest. */
const told = computed(() =>
  props.step.kind === 'revision' || props.step.kind === 'pointer'
    ? props.step.attributes.filter((a) => a.drifted)
    : props.step.attributes,
)
const { service, stage } = useFocus()
</script>

<template>
  <div class="step">
    <div class="head">
      <CellPair :change="step.change" class="change" />
      <code class="address">{{ step.address }}</code>
      <span v-if="withPhase" class="quiet phase">phase {{ step.phase + 1 }}</span>
      <span v-if="step.recordOnly" class="quiet">record only: the actual state already matches</span>
      <span v-if="step.revertsDrift" class="drift">▨ also reverts drift</span>
    </div>
    <div class="body">
      <BTableSimple v-if="told.length && step.change !== 'delete'" class="attributes">
        <caption class="visually-hidden">
          Changed attributes
        </caption>
        <tbody>
          <tr v-for="a in told" :key="a.name">
            <th scope="row">{{ a.name }}</th>
            <td v-if="step.change === 'create'" class="wrap-anywhere">{{ value(a.after, a.unit) }}</td>
            <td v-else-if="a.drifted" class="wrap-anywhere">
              <span class="drift">live: {{ value(a.actual, a.unit) }}</span> → {{ value(a.after, a.unit) }}
            </td>
            <td v-else class="wrap-anywhere">
              <span class="quiet">{{ value(a.before, a.unit) }}</span> → {{ value(a.after, a.unit) }}
            </td>
          </tr>
        </tbody>
      </BTableSimple>
      <p v-if="!plain" class="because">
        <template v-for="(c, i) in step.because" :key="i">
          <template v-if="i"> · </template>{{ c.text }}
          <RouterLink
            v-if="c.from?.file"
            :to="{ name: 'source', params: { service }, query: { stage, file: c.from.file, line: c.from.line } }"
            >{{ c.from.file }}:{{ c.from.line }}</RouterLink
          >
          <span v-if="c.from?.file && authors?.[`${c.from.file}:${c.from.line}`]" class="written">
            by {{ authors[`${c.from.file}:${c.from.line}`]?.author }}
            <TimeAgo :at="authors[`${c.from.file}:${c.from.line}`]?.at ?? 0" />:
            {{ authors[`${c.from.file}:${c.from.line}`]?.message }}
          </span>
          <span v-if="(c.files?.length ?? 0) > 3" class="quiet" :title="c.files?.join('\n')"
            >({{ count(c.files?.length ?? 0, 'file') }})</span
          >
        </template>
      </p>
    </div>
  </div>
</template>

<style scoped>
.step {
  padding: 0.45rem 0.9rem;
}
.head {
  display: flex;
  gap: 0.8rem;
  align-items: baseline;
  flex-wrap: wrap;
}
.change {
  width: 6.4rem;
  align-self: center;
}
.address {
  font-weight: 500;
}
.phase {
  font-size: 0.8125rem;
}
.body {
  padding-left: 7.2rem;
}
.attributes {
  border-collapse: collapse;
}
.attributes th {
  font-weight: 400;
  color: var(--quiet);
  padding: 0 0.9rem 0 0;
  vertical-align: top;
  white-space: nowrap;
}
.attributes td {
  padding: 0;
}
.because {
  margin: 0.1rem 0 0;
  font-size: 0.8125rem;
  color: var(--quiet);
}
</style>
