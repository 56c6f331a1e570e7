<script setup lang="ts">
import { computed, watch } from 'vue'

import type { Schemas } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useLog } from '../composables/useLog'

const props = defineProps<{ detail: Schemas['FunctionDetail']; service: string }>()
const target = useAddress('target', props.detail.targets[0] ?? '')
const of = useAddress<'one' | 'all'>('of', 'one')
const everything = computed({ get: () => of.value === 'all', set: (all) => (of.value = all ? 'all' : 'one') })
const find = useAddress('find', '')
const invocation = useAddress<string>('call', '')
const revision = useAddress('revision', '')
/** An address with call=failed selects the newest failed invocation. */
const failed = computed(() => {
  if (invocation.value !== 'failed') return ''
  const end = lines.value.findLast((l) => l.stream === 'platform' && l.invocation && !l.text.startsWith('succeeded'))
  return end?.invocation ?? ''
})
const { lines, state, follow, back } = useLog(() => ({
  service: props.service,
  stage: props.detail.stage,
  target: target.value,
  function: everything.value ? undefined : props.detail.function,
}))
watch([target, everything], follow, { immediate: true })
watch(failed, (id) => {
  if (id) invocation.value = id
})

/** The newest invocations, from the newest lines alone. */
const calls = computed(() => {
  const chosen = invocation.value && invocation.value !== 'failed'
  const out = new Set<string>(chosen ? [invocation.value] : [])
  for (let i = lines.value.length - 1; i >= 0 && i > lines.value.length - 600 && out.size < 30; i--) {
    const call = lines.value[i]?.invocation
    if (call) out.add(call)
  }
  return [...out]
})
/** The revisions of the lines, newest first, by the version that created them. */
const revisions = computed(() =>
  [
    ...new Map(
      lines.value
        .slice(-600)
        .filter((l) => l.revision)
        .map((l) => [l.revision, l.version]),
    ),
  ].reverse(),
)
const narrowed = computed(() => find.value !== '' || invocation.value !== '' || revision.value !== '')
const shown = computed(() =>
  narrowed.value
    ? lines.value.filter(
        (l) =>
          (!find.value || l.text.includes(find.value)) &&
          (!invocation.value || invocation.value === 'failed' || l.invocation === invocation.value) &&
          (!revision.value || l.revision === revision.value),
      )
    : lines.value,
)
</script>

<template>
  <section>
    <div class="controls">
      <input v-model="find" class="form-control" type="search" placeholder="Filter by text" aria-label="Filter lines" />
      <select v-model="invocation" class="form-select" aria-label="Invocation">
        <option value="">All invocations</option>
        <option v-if="invocation === 'failed'" value="failed">Newest failed invocation</option>
        <option v-for="c in calls" :key="c">{{ c }}</option>
      </select>
      <CopyText v-if="invocation" :text="invocation" label="invocation" quiet />
      <select v-if="revisions.length > 1" v-model="revision" class="form-select" aria-label="Version">
        <option value="">All versions</option>
        <option v-for="[r, version] in revisions" :key="r" :value="r">
          {{ version ? `version ${version}` : 'deleted version' }}, {{ r }}
        </option>
      </select>
      <select v-if="detail.targets.length > 1" v-model="target" class="form-select" aria-label="Target">
        <option v-for="t in detail.targets" :key="t">{{ t }}</option>
      </select>
      <label class="text-nowrap"><input v-model="everything" type="checkbox" /> All functions of the stage</label>
      <span class="quiet" role="status">{{ state }}</span>
    </div>
    <LogLines
      :lines="shown"
      follow
      :with-function="everything"
      height="calc(100vh - 20rem)"
      :back="narrowed ? undefined : back"
      pick
      :source="service"
      @call="invocation = $event"
    />
  </section>
</template>

<style scoped>
.controls .form-control {
  max-width: 18rem;
}
</style>
