<script setup lang="ts">
// The plan of a version for a place, before a decision about it.
import { ask, client } from '../api/client'
import { useLoad } from '../composables/useLoad'

const props = defineProps<{ service: string; stage: string; version: number; target: string }>()
const { data, problem, pending, reload } = useLoad(
  () =>
    ask(
      client.GET('/services/{service}/plan', {
        params: {
          path: { service: props.service },
          query: { stage: props.stage, version: props.version, target: props.target },
        },
      }),
    ),
  {
    watch: () => [props.service, props.stage, props.version, props.target].join(' '),
    topics: ['deployment'],
    about: () => ({ stage: props.stage }),
  },
)
</script>

<template>
  <ProblemNote :problem="problem" :again="reload" />
  <PageWait v-if="pending" />
  <PlanSheet v-if="data" :id="data.id" :plan="data.plan" class="mt-2" />
</template>
