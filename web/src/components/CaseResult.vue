<script setup lang="ts">
// The result of a saved case: each expectation, and the whole invocation.
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { duration } from '../words'

const props = defineProps<{ run: Schemas['CaseRun'] }>()
const sent = computed(() => JSON.stringify(props.run.sent ?? null, null, 2))
const answer = computed(() => JSON.stringify(props.run.invocation?.response ?? null, null, 2))
</script>

<template>
  <div class="sheet case">
    <details :open="!run.passed && !run.running">
      <summary>
        <StateWord :state="run.running ? 'running' : run.passed ? 'passed' : 'failed'" /> {{ run.name }}
        <span class="quiet"
          >{{ run.function }}<template v-if="run.invocation?.cold">, cold start</template
          ><template v-if="(run.attempts ?? 1) > 1">, {{ run.attempts }} attempts</template
          ><template v-if="run.direct">, {{ run.direct }}</template
          ><template v-if="run.again">, attempt 2: Rudmar stopped during attempt 1</template> · {{ run.target }}</span
        >
      </summary>
      <RowTable caption="Expected and received values">
        <thead>
          <tr>
            <th scope="col">Expected</th>
            <th scope="col">Received</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="o in run.outcomes" :key="o.expected">
            <td>
              <span :class="{ bad: !o.passed }"
                ><code>{{ o.expected }}</code></span
              >
            </td>
            <td class="wrap-anywhere" :class="{ bad: !o.passed }">
              <code>{{ o.received || (o.passed ? 'true' : 'false') }}</code>
            </td>
          </tr>
        </tbody>
      </RowTable>
      <details v-if="run.invocation" class="call" :open="!run.passed">
        <summary>
          Invocation<span class="quiet"
            >, {{ duration(run.invocation.coldStartMs + run.invocation.durationMs) }}, {{ run.file }}</span
          >
        </summary>
        <template v-if="run.address">
          <p class="quiet mb-0">Address</p>
          <pre>{{ run.address }}</pre>
        </template>
        <p class="quiet mb-0">Event</p>
        <pre>{{ sent }}</pre>
        <p v-if="run.invocation.error" class="bad wrap-anywhere">{{ run.invocation.error.message }}</p>
        <template v-else>
          <p class="quiet mb-0">Response</p>
          <pre>{{ answer }}</pre>
        </template>
        <template v-if="run.invocation.logs.length">
          <p class="quiet mb-0">Logs</p>
          <pre>{{ run.invocation.logs.map((l) => l.text).join('\n') }}</pre>
        </template>
      </details>
      <p v-else class="quiet small px-2 mb-1">{{ run.file }}</p>
    </details>
  </div>
</template>

<style scoped>
.case {
  margin-bottom: 0.4rem;
}
summary {
  padding: 0.35rem 0.7rem;
}
.call {
  padding: 0 0.7rem 0.4rem;
}
.call summary {
  padding: 0.2rem 0;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  margin-bottom: 0.4rem;
  font-size: 0.8125rem;
}
</style>
