<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useSession } from '../stores/session'
import { bytes, duration } from '../words'

const props = defineProps<{ detail: Schemas['FunctionDetail']; service: string }>()
const session = useSession()
const target = ref(props.detail.targets[0] ?? '')
// A saved case is a valid event of the function.
const chosen = ref(
  Math.max(
    0,
    props.detail.samples.findIndex((s) => s.case),
  ),
)
const text = ref('')
const answer = ref<Schemas['Invocation'] | null>(null)
const { busy, problem, run } = useAction()

watch(
  chosen,
  (i) => {
    text.value = JSON.stringify(props.detail.samples[i]?.event ?? {}, null, 2)
  },
  { immediate: true },
)
const broken = computed(() => {
  try {
    JSON.parse(text.value)
    return ''
  } catch (e) {
    return (e as Error).message
  }
})

function call(): Promise<boolean> {
  return run(async () => {
    answer.value = await ask(
      client.POST('/services/{service}/stages/{stage}/functions/{function}/invocations', {
        params: { path: { service: props.service, stage: props.detail.stage, function: props.detail.function } },
        body: {
          target: target.value,
          trigger: props.detail.samples[chosen.value]?.trigger,
          event: JSON.parse(text.value) as unknown,
        },
      }),
    )
  })
}
const shownAnswer = computed(() => JSON.stringify(answer.value?.response ?? null, null, 2))
</script>

<template>
  <div class="split">
    <section>
      <h2>Event</h2>
      <div class="pickers">
        <select v-model="chosen" class="form-select" aria-label="Sample">
          <optgroup v-if="detail.samples.some((s) => s.case)" label="Saved cases">
            <template v-for="(s, i) in detail.samples" :key="i"
              ><option v-if="s.case" :value="i">{{ s.name }}</option></template
            >
          </optgroup>
          <optgroup label="Trigger samples">
            <template v-for="(s, i) in detail.samples" :key="i"
              ><option v-if="!s.case" :value="i">{{ s.name }}</option></template
            >
          </optgroup>
        </select>
        <select v-if="detail.targets.length > 1" v-model="target" class="form-select target" aria-label="Target">
          <option v-for="t in detail.targets" :key="t">{{ t }}</option>
        </select>
      </div>
      <textarea v-model="text" class="form-control mono event" rows="13" spellcheck="false" aria-label="Event (JSON)" />
      <p v-if="broken" class="bad mb-1">Not JSON: {{ broken }}</p>
      <ProblemNote :problem="problem" />
      <button
        type="button"
        class="btn btn-primary mt-2"
        :disabled="busy || !!broken || !detail.deployed || !session.may('invoke')"
        @click="call"
      >
        {{ busy ? 'Invoking…' : 'Invoke' }}
      </button>
      <span v-if="!detail.deployed" class="quiet ms-2">Not deployed in this stage yet.</span>
      <template v-if="detail.routes.length">
        <h2 class="mt-3">Addresses</h2>
        <p v-for="r in detail.routes" :key="r.target + r.trigger" class="mb-2">
          <span>{{ r.method }}</span>
          <span class="quiet">
            on {{ r.target }}, open to {{ r.to }}<template v-if="!r.enabled">, disabled</template></span
          ><br />
          <CopyText :text="r.url" />
        </p>
      </template>
    </section>
    <section>
      <h2>Response</h2>
      <p v-if="!answer" class="quiet">The response, duration, memory and logs appear after an invocation.</p>
      <template v-else>
        <p class="facts">
          <StateWord :state="answer.outcome" />
          <span>{{ answer.cold ? `Cold start ${duration(answer.coldStartMs)}` : 'Warm' }}</span>
          <span>Duration {{ duration(answer.durationMs) }}</span>
          <span>Memory peak {{ bytes(answer.memoryPeak) }} of {{ bytes(answer.memoryLimit) }}</span>
          <span class="quiet"
            >{{ answer.revision }}<template v-if="answer.version">, from version {{ answer.version }}</template></span
          >
        </p>
        <div
          class="timing"
          :title="`cold start ${duration(answer.coldStartMs)}, duration ${duration(answer.durationMs)}`"
        >
          <span class="cold" :style="{ flexGrow: answer.coldStartMs }" /><span
            class="ran"
            :style="{ flexGrow: Math.max(answer.durationMs, 0.01) }"
          />
        </div>
        <div v-if="answer.error" class="mb-2">
          <p class="bad mb-1 wrap-anywhere">
            <strong>{{ answer.error.kind }}</strong> {{ answer.error.message }}
          </p>
          <pre v-if="answer.error.trace" class="block">{{ answer.error.trace }}</pre>
        </div>
        <pre v-else class="block" data-answer>{{ shownAnswer }}</pre>
        <h2 class="mt-3">Logs</h2>
        <LogLines :lines="answer.logs" height="14rem" />
      </template>
    </section>
  </div>
</template>

<style scoped>
.split {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.15fr);
  gap: 1.5rem;
}
.pickers {
  display: flex;
  gap: 0.5rem;
  margin-bottom: 0.5rem;
}
.target {
  width: auto;
}
.event {
  font-size: 0.8125rem;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 0.2rem 1.1rem;
  margin-bottom: 0.4rem;
}
.timing {
  display: flex;
  height: 6px;
  margin-bottom: 0.6rem;
  background: var(--wash);
}
.cold {
  background: var(--amber);
}
.ran {
  background: var(--spruce);
  min-width: 3px;
}
</style>
