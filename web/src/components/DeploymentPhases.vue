<script setup lang="ts">
// The phases of a deployment as bars over time.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { barOf, type Span, phasesOf } from '../deployment'
import { duration, resources } from '../words'

const props = defineProps<{ steps: Schemas['DeploymentStep'][]; span: Span; now: number }>()
const phases = computed(() => phasesOf(props.steps))
</script>

<template>
  <div class="sheet mb-3">
    <RowTable caption="Phases" class="timed">
      <thead>
        <tr>
          <th scope="col">Phase</th>
          <th scope="col">Resources</th>
          <th scope="col">State</th>
          <th scope="col" class="time">Duration</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="w in phases" :key="w.phase">
          <td><span class="d-sm-none">phase </span>{{ w.phase + 1 }}</td>
          <td>{{ w.kinds.map(([kind, n]) => resources(n, kind)).join(', ') }}</td>
          <td>
            <StateWord :state="w.state" />
            <span class="quiet">
              {{ w.done }} of {{ w.steps }}<template v-if="w.failed">, {{ w.failed }} failed</template></span
            >
          </td>
          <td class="time">
            <div class="track"><span class="bar" :class="w.state" :style="barOf(w.from, w.to || now, span)" /></div>
            <span class="quiet took">{{ w.from && w.to ? duration(w.to - w.from) : '' }}</span>
          </td>
        </tr>
      </tbody>
    </RowTable>
  </div>
</template>
