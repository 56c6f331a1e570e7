<script setup lang="ts">
// The strip that draws the stages in order: the source, then each stage as a
// station, with the way on between them.
import { onMounted, onUnmounted } from 'vue'

import type { Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { writer } from '../words'

defineProps<{ line: Schemas['Line'] }>()
const { service, stage, focus, move } = useFocus()

function onKey(e: KeyboardEvent): void {
  const at = e.target as HTMLElement
  if (e.ctrlKey || e.metaKey || e.altKey || at.closest('input, textarea, select, [contenteditable]')) return
  if (e.key === '[') move(-1)
  if (e.key === ']') move(1)
}
onMounted(() => document.addEventListener('keydown', onKey))
onUnmounted(() => document.removeEventListener('keydown', onKey))
</script>

<template>
  <nav class="line" aria-label="Stage line">
    <RouterLink :to="{ name: 'source', params: { service }, query: { stage } }" class="station source link-plain">
      <span class="name">source</span>
      <span v-if="line.source.hash" class="clip message" :title="line.source.message">{{ line.source.message }}</span>
      <span v-if="line.source.hash" class="detail clip">
        <code>{{ line.source.hash.slice(0, 8) }}</code> <span :title="writer(line.source)">{{ line.source.person || line.source.author }}</span> · <TimeAgo :at="line.source.at" />
      </span>
      <span class="detail"><StateWord :state="line.source.state" /><template v-if="line.source.version"> as version {{ line.source.version }}</template></span>
    </RouterLink>
    <p v-if="line.became" class="way wait mb-0">called <RouterLink :to="{ name: 'board', params: { service: line.became } }">{{ line.became }}</RouterLink> now; what runs here is taken away by its newest version</p>
    <p v-if="line.source.hash && line.stages.length === 0" class="way mb-0">Nothing of it runs. It can go off <RouterLink :to="{ name: 'services' }">the list</RouterLink>.</p>
    <template v-for="s in line.stages" :key="s.stage">
      <div class="way">
        <template v-if="s.next">
          <RouterLink :to="{ name: 'delivery', params: { service, version: s.next.version, stage: s.stage } }" class="way-text" :title="s.next.summary">
            version {{ s.next.version }} {{ s.next.state === 'arrived' ? 'waits' : 'comes' }}<template v-if="s.waiting > 1">, {{ s.waiting }} in all</template>
          </RouterLink>
          <span class="way-gates" :title="s.next.summary">{{ s.next.summary }}</span>
        </template>
        <svg class="arrow" height="8" preserveAspectRatio="none" aria-hidden="true"><line x1="0" y1="4" x2="100%" y2="4" stroke="currentColor" :stroke-dasharray="s.next ? '' : '3 3'" /></svg>
      </div>
      <button type="button" class="station" :class="{ focused: s.stage === stage }" :aria-pressed="s.stage === stage" @click="focus(s.stage)">
        <span class="name clip">{{ s.stage }}<span v-if="!s.declared" class="wait fw-normal small ms-2" title="The newest version does not declare this stage any more. What runs here stays until a version takes it away, by the rules that stand here.">no longer declared</span></span>
        <span class="version">{{ s.version ? `version ${s.version}` : 'nothing yet' }}</span>
        <span class="detail clip">{{ s.targets.join(', ') }}<template v-if="s.since"> · <TimeAgo :at="s.since" /></template></span>
        <span class="detail marks">
          <StateWord :state="s.state" /><span v-if="s.why" class="clip quiet" :title="s.why">{{ s.why }}</span>
          <span v-if="s.drifted" class="drift" title="resources that are live otherwise than recorded">▨ {{ s.drifted }} drifted</span>
          <span v-if="s.failing" class="bad" title="functions with failed calls in the last hour">▲ {{ s.failing }} failing</span>
          <span v-if="s.problem" class="bad" :title="s.problem">▲ cannot be seen<template v-if="s.problemSince">, since <TimeAgo :at="s.problemSince" /></template></span>
        </span>
      </button>
    </template>
  </nav>
</template>

<style scoped>
.line {
  display: flex;
  align-items: stretch;
  padding: 0.6rem 1.25rem 0.5rem;
  background: var(--wash);
  border-bottom: 1px solid var(--rule);
  overflow-x: auto;
}
.station {
  display: flex;
  flex-direction: column;
  min-width: 0;
  flex: 1 1 11rem;
  max-width: 17rem;
  text-align: left;
  background: var(--surface);
  border: 1px solid var(--rule);
  border-top: 3px solid var(--rule);
  border-radius: 3px;
  padding: 0.3rem 0.65rem 0.35rem;
  color: var(--ink);
  line-height: 1.35;
}
.station.focused {
  border-color: var(--fjord);
}
.station.source {
  background: transparent;
}
.name {
  font-weight: 600;
}
.version {
  font-size: 1rem;
}
.message {
  font-size: 0.875rem;
}
.detail {
  font-size: 0.8125rem;
  color: var(--quiet);
}
.marks {
  display: flex;
  gap: 0.6rem;
  overflow: hidden;
}
.marks > * {
  flex: none;
}
.marks > .clip {
  flex: 0 1 auto;
}
.way {
  flex: 1 1 7rem;
  min-width: 5.5rem;
  max-width: 13rem;
  display: flex;
  flex-direction: column;
  justify-content: center;
  padding: 0 0.4rem;
  color: var(--quiet);
  font-size: 0.8125rem;
  line-height: 1.25;
}
.arrow {
  width: 100%;
  margin-top: 0.15rem;
  flex: none;
}
.way-text {
  color: var(--fjord);
}
.way-gates {
  color: var(--amber);
  display: -webkit-box;
  -webkit-line-clamp: 2;
  line-clamp: 2;
  -webkit-box-orient: vertical;
  overflow: hidden;
}
</style>
