<script setup lang="ts">
// Notes on the line under the cursor: next times, requests, permissions,
// observations; and a form that tests a request against all routes.
import { ref } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { exact } from '../words'

const props = defineProps<{
  notes: Schemas['LineNote'][]
  about: string
  service: string
  branch: string
  stage: string
  files: Record<string, string | null>
}>()
const emit = defineEmits<{ open: [file: string, line: number] }>()
const request = ref('GET /')
const result = ref<Schemas['RouteResult'] | null>(null)
const { busy, problem, run } = useAction()

function tryRequest(): Promise<boolean> {
  return run(async () => {
    const [method = 'GET', path = ''] = request.value.trim().split(/\s+/)
    result.value = await ask(
      client.POST('/services/{service}/source/route', {
        params: { path: { service: props.service } },
        body: { branch: props.branch, stage: props.stage, files: props.files, method: method.toUpperCase(), path },
      }),
    )
  })
}

function inZone(at: number, zone: string | undefined): string {
  return new Intl.DateTimeFormat('sv-SE', { timeZone: zone ?? 'UTC', dateStyle: 'short', timeStyle: 'short' }).format(
    at,
  )
}
</script>

<template>
  <section class="notes" aria-label="Details of this line" tabindex="0">
    <p v-if="about" class="mb-1">{{ about }}</p>
    <div v-for="n in notes" :key="n.title" class="mb-1">
      <strong>{{ n.title }}</strong>
      <ul>
        <li v-for="l in n.lines" :key="l">{{ l }}</li>
      </ul>
      <p v-if="n.fires.length" class="fires mb-0">
        <span v-for="f in n.fires" :key="f" :title="`${exact(f)}`">{{ inZone(f, n.zone) }}</span>
        <span class="quiet">in {{ n.zone ?? 'UTC' }}; hover for your own time zone</span>
      </p>
    </div>
    <form class="try" @submit.prevent="tryRequest">
      <input v-model="request" class="form-control mono" aria-label="Request to test" />
      <button class="btn btn-outline-secondary text-nowrap" :disabled="busy">Test route</button>
    </form>
    <ProblemNote :problem="problem" />
    <div v-if="result" class="mt-1">
      {{ result.reason }}
      <ul>
        <li v-for="(t, i) in result.matches" :key="t.file + t.trigger" :class="{ quiet: i > 0 }">
          <code>{{ t.route }}</code> of
          <button type="button" class="btn btn-link p-0 align-baseline" @click="emit('open', t.file, t.line)">
            {{ t.function }}
          </button>
          <span v-for="(v, k) in t.params" :key="k" class="quiet ms-2">{{ k }} = {{ v }}</span>
        </li>
      </ul>
    </div>
  </section>
</template>

<style scoped>
.notes {
  font-size: 0.8125rem;
  max-height: 11rem;
  overflow: auto;
  margin-top: 0.4rem;
}
ul {
  margin: 0;
  padding-left: 1.1rem;
}
.fires {
  display: flex;
  flex-wrap: wrap;
  gap: 0.1rem 0.9rem;
}
.try {
  display: flex;
  gap: 0.5rem;
}
.try .form-control {
  max-width: 24rem;
}
</style>
