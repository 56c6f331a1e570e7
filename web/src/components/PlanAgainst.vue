<script setup lang="ts">
// The differences of a saved plan from an older one.
import { computed } from 'vue'

import { ask, client, type Schemas } from '../api/client'
import { useAddress } from '../composables/useAddress'
import { useLoad } from '../composables/useLoad'
import { count, severityTone, stateText, value } from '../words'

const props = defineProps<{ id: number }>()
const against = useAddress('against', '')
const other = computed(() => Number(against.value) || 0)
const { data, problem, reload } = useLoad(
  async () =>
    other.value && other.value !== props.id
      ? ask(client.GET('/plans/{id}/compare/{other}', { params: { path: { id: props.id, other: other.value } } }))
      : null,
  { watch: () => `${props.id} ${other.value}` },
)
const same = computed(
  () =>
    data.value &&
    data.value.added.length + data.value.removed.length + data.value.changed.length === 0 &&
    data.value.impact.length + data.value.removedImpact.length === 0,
)
const words = (s: Schemas['Step']): string =>
  s.attributes.map((a) => `${a.name} ${value(a.before, a.unit)} → ${value(a.after, a.unit)}`).join(', ')
</script>

<template>
  <section class="mb-3">
    <label class="ask"
      >Compare with plan
      <input
        v-model.lazy="against"
        class="form-control form-control-sm"
        inputmode="numeric"
        pattern="[0-9]+"
        placeholder="number"
        autocomplete="off"
      />
    </label>
    <ProblemNote :problem="problem" :again="reload" />
    <p v-if="same" class="quiet mb-0">Plan {{ other }} has the same steps and impact.</p>
    <div v-else-if="data" class="sheet sheet-pad mt-2">
      <h2>
        Compared with plan {{ other }}: {{ count(data.added.length, 'step') }} added, {{ data.removed.length }} removed,
        {{ data.changed.length }} changed
      </h2>
      <p v-for="l in data.impact" :key="`+${l.text}`" class="mb-1">
        now
        <strong :class="severityTone[l.severity]">{{ stateText(l.kind) }}</strong>
        {{ l.text }}
      </p>
      <p v-for="l in data.removedImpact" :key="`-${l.text}`" class="mb-1 quiet">no longer {{ l.kind }}: {{ l.text }}</p>
      <p v-for="s in data.added" :key="s.address" class="mb-1">
        more: <CellPair :change="s.change" /> <code>{{ s.address }}</code> <span class="quiet">{{ words(s) }}</span>
      </p>
      <p v-for="s in data.removed" :key="s.address" class="mb-1">
        gone: <CellPair :change="s.change" /> <code>{{ s.address }}</code>
      </p>
      <p v-for="c in data.changed" :key="c.after.address" class="mb-1">
        <CellPair :change="c.after.change" /> <code>{{ c.after.address }}</code> {{ words(c.after) }}
        <span class="quiet">in plan {{ other }}: {{ c.before.change }} {{ words(c.before) }}</span>
      </p>
    </div>
  </section>
</template>

<style scoped>
.ask {
  display: inline-flex;
  gap: 0.4rem;
  align-items: baseline;
  color: var(--quiet);
}
.ask input {
  width: 6rem;
}
</style>
