<script setup lang="ts">
// A queued, running or failed build, with its log.
import { ask, client, type Schemas } from '../api/client'
import { useAction } from '../composables/useAction'
import { useSession } from '../stores/session'

const props = defineProps<{ build: Schemas['Build']; service: string }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const { busy, problem, run } = useAction()

function cancel(): Promise<boolean> {
  return run(async () => {
    await ask(
      client.DELETE('/services/{service}/builds/{build}', {
        params: { path: { service: props.service, build: props.build.id } },
      }),
    )
    emit('changed')
  })
}

function retry(): Promise<boolean> {
  return run(async () => {
    await ask(
      client.POST('/services/{service}/builds/{build}/retry', {
        params: { path: { service: props.service, build: props.build.id } },
      }),
    )
    emit('changed')
  })
}
</script>

<template>
  <section class="sheet sheet-pad mb-3" :aria-label="`Build of ${build.hash.slice(0, 8)}`">
    <div class="d-flex gap-3 align-items-baseline">
      <StateWord :state="build.state" />
      <span
        >build of <code>{{ build.hash.slice(0, 8) }}</code> on {{ build.branch }}</span
      >
      <span class="quiet">pushed by {{ build.person || 'unknown' }}, <TimeAgo :at="build.queuedAt" /></span>
      <button
        v-if="(build.state === 'running' || build.state === 'queued') && session.may('write')"
        type="button"
        class="btn btn-sm btn-outline-secondary ms-auto"
        :disabled="busy"
        @click="cancel"
      >
        Cancel build
      </button>
      <button
        v-if="(build.state === 'failed' || build.state === 'cancelled') && session.may('write')"
        type="button"
        class="btn btn-sm btn-outline-secondary ms-auto"
        :disabled="busy"
        @click="retry"
      >
        Run build again
      </button>
    </div>
    <p v-if="build.reason" class="bad mb-1 wrap-anywhere">{{ build.reason }}</p>
    <ProblemNote :problem="problem" />
    <pre v-if="build.log" class="block log mb-0">{{ build.log }}</pre>
  </section>
</template>

<style scoped>
.log {
  max-height: 14rem;
  overflow: auto;
}
</style>
