<script setup lang="ts">
// The stages in order: the source, then each stage as a
// station, with the links between them. On narrow screens it scrolls.
import { nextTick, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { useFocus } from '../composables/useFocus'
import { count, writer } from '../words'

defineProps<{ line: Schemas['StageLine'] }>()
const { service, stage, focus } = useFocus()
const strip = ref<HTMLElement | null>(null)

// The focused station is in view.
watch(
  stage,
  async () => {
    await nextTick()
    const at = strip.value?.querySelector<HTMLElement>('.station.focused')
    if (at && strip.value) strip.value.scrollLeft = at.offsetLeft - (strip.value.clientWidth - at.offsetWidth) / 2
  },
  { immediate: true, flush: 'post' },
)

/** The targets in their shortest form. */
function where(targets: string[]): string {
  return targets.length === 1 ? (targets[0] ?? '') : count(targets.length, 'target')
}
/** What a version is waiting for, in few words. */
function gates(s: Schemas['Station']): string {
  if (!s.next?.pending.length) return s.next?.summary ?? ''
  const { pending, blockedBy } = s.next
  const first = (blockedBy ?? pending[0] ?? '').replace(/^waiting for /, 'needs ')
  return pending.length > 1 ? `${first}; ${pending.length - 1} more` : first
}
</script>

<template>
  <nav ref="strip" class="line" aria-label="Stage line" tabindex="-1">
    <RouterLink :to="{ name: 'source', params: { service }, query: { stage } }" class="station source link-plain">
      <span class="name">Source</span>
      <span v-if="line.source.hash" class="clip message" :title="line.source.message">{{ line.source.message }}</span>
      <span v-if="line.source.hash" class="detail clip" :title="`${line.source.hash}, ${writer(line.source)}`">
        {{ line.source.person || line.source.author }} · <TimeAgo :at="line.source.at" />
      </span>
      <span class="detail"
        ><StateWord :state="line.source.state" /><template v-if="line.source.version">
          as version {{ line.source.version }}</template
        ></span
      >
    </RouterLink>
    <p v-if="line.renamedTo" class="way wait mb-0">
      renamed to
      <RouterLink :to="{ name: 'board', params: { service: line.renamedTo } }">{{ line.renamedTo }}</RouterLink>; its
      newest version deletes the resources deployed here
    </p>
    <p v-if="line.source.hash && line.stages.length === 0" class="way mb-0">
      Nothing is deployed. Delete it under <RouterLink :to="{ name: 'services' }">Services</RouterLink>.
    </p>
    <template v-for="s in line.stages" :key="s.stage">
      <div class="way">
        <RouterLink
          v-if="s.next"
          :to="{ name: 'delivery', params: { service, version: s.next.version, stage: s.stage } }"
          class="way-text link-plain"
          :title="`version ${s.next.version}: ${s.next.summary}`"
        >
          <span class="way-version"
            >version {{ s.next.version }}<template v-if="s.waiting > 1"> +{{ s.waiting - 1 }}</template></span
          >
          <span class="way-gates" :class="{ bad: s.next.blockedBy }">{{ gates(s) }}</span>
        </RouterLink>
        <RouterLink
          v-if="s.blocked"
          :to="{ name: 'plan', params: { service }, query: { stage: s.stage, version: s.blocked.version } }"
          class="way-text bad link-plain"
          :title="s.blocked.blockers.join('\n')"
          >▲ {{ s.blocked.version === s.next?.version ? '' : `version ${s.blocked.version}: `
          }}{{ count(s.blocked.blockers.length, 'blocker') }}</RouterLink
        >
        <svg class="arrow" height="8" preserveAspectRatio="none" aria-hidden="true">
          <line x1="0" y1="4" x2="100%" y2="4" stroke="currentColor" :stroke-dasharray="s.next ? '' : '3 3'" />
        </svg>
      </div>
      <div class="stop">
        <button
          type="button"
          class="station"
          :class="{ focused: s.stage === stage, undone: s.stage === stage && s.before }"
          :aria-pressed="s.stage === stage"
          @click="focus(s.stage)"
        >
          <span class="name clip"
            >{{ s.stage
            }}<span
              v-if="!s.declared"
              class="wait fw-normal small ms-2"
              title="The newest version no longer declares this stage. Its resources stay until a version deletes them under the standing rules."
              >no longer declared</span
            ></span
          >
          <span v-if="s.shift" class="version"
            >version {{ s.shift.before }} <span class="quiet">{{ 100 - s.shift.share }}%</span> · {{ s.shift.version }}
            <span class="fjord">{{ s.shift.share }}%</span></span
          >
          <span v-else class="version">{{ s.version ? `version ${s.version}` : 'not deployed' }}</span>
          <span class="detail clip" :title="s.targets.join(', ')"
            ><template v-if="s.since"><TimeAgo :at="s.since" /> · </template>{{ where(s.targets) }}</span
          >
          <span class="detail marks">
            <StateWord :state="s.state" /><span v-if="s.reason" class="clip quiet" :title="s.reason">{{
              s.reason
            }}</span>
            <span v-if="s.drifted" class="drift" title="Resources whose actual state differs from the record"
              >▨ {{ s.drifted }} drifted</span
            >
            <span v-if="s.failing" class="bad" title="Functions with failed invocations in the last hour"
              >▲ {{ s.failing }} failing</span
            >
            <span v-if="s.problem" class="bad" :title="s.problem"
              >▲ unreachable<template v-if="s.problemSince">, since <TimeAgo :at="s.problemSince" /></template
            ></span>
          </span>
        </button>
        <RouterLink
          v-if="s.stage === stage && s.before"
          class="undo"
          :to="{ name: 'delivery', params: { service, version: s.before, stage: s.stage }, query: { back: '1' } }"
          :title="`Roll ${s.stage} back to version ${s.before}; shows the plan first`"
          >Roll back to {{ s.before }}…</RouterLink
        >
      </div>
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
  position: relative;
}
.station {
  display: flex;
  flex-direction: column;
  min-width: 10.5rem;
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
.stop {
  position: relative;
  display: flex;
  flex: 1 1 11rem;
  min-width: 10.5rem;
  max-width: 17rem;
}
.stop .station {
  flex: 1 1 auto;
  min-width: 0;
  max-width: none;
}
.undone .name {
  padding-right: 5.5rem;
}
.undo {
  position: absolute;
  top: 0.45rem;
  right: 0.65rem;
  font-size: 0.8125rem;
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
  flex-wrap: wrap;
  gap: 0 0.6rem;
}
.marks > * {
  flex: none;
}
.marks > .clip {
  flex: 0 1 auto;
}
.way {
  flex: 1 1 7rem;
  min-width: 6.2rem;
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
.way-text span {
  display: block;
}
.way-version {
  color: var(--fjord);
}
.way-gates:not(.bad) {
  color: var(--amber);
}
@media (max-width: 900px) {
  .line {
    padding-inline: 0.75rem;
    scroll-snap-type: x proximity;
  }
  .stop,
  .station.source {
    scroll-snap-align: center;
  }
  .way {
    min-width: 7rem;
  }
}
@media (max-width: 480px) {
  .stop,
  .station.source {
    flex: 0 0 12rem;
  }
}
.way-text.bad {
  color: var(--clay);
}
</style>
