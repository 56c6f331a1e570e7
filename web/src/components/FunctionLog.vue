<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{ detail: Schemas['FunctionDetail']; service: string }>()
const target = ref(props.detail.targets[0] ?? '')
const everything = ref(false)
const find = ref('')
const invocation = ref('')
const revision = ref('')
const lines = ref<Schemas['LogLine'][]>([])
const state = ref('connecting')
let stream: EventSource | null = null

const kept = 3000

watch(
  [target, everything],
  () => {
    stream?.close()
    lines.value = []
    const query = new URLSearchParams({ target: target.value })
    if (!everything.value) query.set('function', props.detail.function)
    stream = new EventSource(`/api/services/${props.service}/stages/${props.detail.stage}/logs/stream?${query}`)
    stream.onopen = () => (state.value = 'following')
    stream.onerror = () => (state.value = 'connection lost, trying again')
    stream.addEventListener('line', (e) => {
      state.value = 'following'
      lines.value = [...lines.value.slice(-kept), JSON.parse((e as MessageEvent<string>).data) as Schemas['LogLine']]
    })
    stream.addEventListener('alive', () => (state.value = 'following'))
    stream.addEventListener('trouble', (e) => {
      state.value = (JSON.parse((e as MessageEvent<string>).data) as { detail: string }).detail
    })
  },
  { immediate: true },
)
onUnmounted(() => stream?.close())

const calls = computed(() => [...new Set(lines.value.map((l) => l.invocation))].filter(Boolean).slice(-30).reverse())
/** The revisions of the lines, the newest first, by the version that first asked for them. */
const revisions = computed(() => [...new Map(lines.value.filter((l) => l.revision).map((l) => [l.revision, l.version]))].reverse())
const shown = computed(() =>
  lines.value.filter((l) => (!find.value || l.text.includes(find.value)) && (!invocation.value || l.invocation === invocation.value) && (!revision.value || l.revision === revision.value)),
)
</script>

<template>
  <section>
    <div class="controls">
      <input v-model="find" class="form-control" type="search" placeholder="Only lines with this text" aria-label="Filter lines" />
      <select v-model="invocation" class="form-select" aria-label="Call">
        <option value="">all calls</option>
        <option v-for="c in calls" :key="c">{{ c }}</option>
      </select>
      <select v-if="revisions.length > 1" v-model="revision" class="form-select" aria-label="Version">
        <option value="">all versions</option>
        <option v-for="[r, version] in revisions" :key="r" :value="r">{{ version ? `version ${version}` : 'an old version' }}, {{ r }}</option>
      </select>
      <select v-if="detail.targets.length > 1" v-model="target" class="form-select" aria-label="Target"><option v-for="t in detail.targets" :key="t">{{ t }}</option></select>
      <label class="text-nowrap"><input v-model="everything" type="checkbox" /> all functions of the stage</label>
      <span class="quiet" role="status">{{ state }}</span>
    </div>
    <LogLines :lines="shown" follow :with-function="everything" height="calc(100vh - 20rem)" />
  </section>
</template>

<style scoped>
.controls .form-control {
  max-width: 18rem;
}
</style>
