<script setup lang="ts">
// Log lines: only the visible ones of many are in the page.
import { useVirtualizer } from '@tanstack/vue-virtual'
import { computed, nextTick, ref, watch } from 'vue'

import type { LogLine } from '../composables/useLog'
import { clock, count, exact } from '../words'

const props = defineProps<{
  lines: LogLine[]
  follow?: boolean
  withFunction?: boolean
  height?: string
  /** Loads older lines; returns their number. */
  back?: () => Promise<number>
  /** Whether a line's invocation can be selected. */
  pick?: boolean
  /** The service whose source the lines of stack traces link to. */
  source?: string
}>()
const emit = defineEmits<{ call: [invocation: string] }>()
const box = ref<HTMLElement | null>(null)
/** Whether the newest line is in view: then the view follows new lines. */
const atEnd = ref(true)

const rows = useVirtualizer(
  computed(() => ({
    count: props.lines.length,
    getScrollElement: () => box.value,
    estimateSize: () => 19,
    getItemKey: (i: number) => props.lines[i]?.id ?? i,
    overscan: 6,
  })),
)

watch(
  () => props.lines,
  async (_, before) => {
    if (!props.follow || (!atEnd.value && (before?.length ?? 0) > 0)) return
    await nextTick()
    rows.value.scrollToIndex(props.lines.length - 1, { align: 'end' })
  },
  { immediate: true, flush: 'post' },
)

async function scrolled(): Promise<void> {
  const at = box.value
  if (!at) return
  atEnd.value = at.scrollHeight - at.scrollTop - at.clientHeight < 60
  if (at.scrollTop > 40 || atEnd.value || !props.back) return
  const more = await props.back()
  await nextTick()
  if (more) rows.value.scrollToIndex(more, { align: 'start' }) // the lines in view stay in place
}
/** The parts of a line of a stack trace: the text before a location in the function's code, the location, and the rest. */
function traced(l?: LogLine): { before: string; at: string; after: string; file: string; line: number } | null {
  if (!props.source || l?.stream !== 'err') return null
  const m = /^(.*?)((?:File ")?(?:file:\/\/)?(?:\/fn\/([\w./-]+)|([\w.-]+\.go))(?:", line |:)(\d+)(?::\d+)?)(.*)$/.exec(
    l.text,
  )
  if (!m) return null
  const file = `functions/${l.function}/${m[3] ?? m[4]}`
  return { before: m[1] ?? '', at: m[2] ?? '', after: m[6] ?? '', file, line: Number(m[5]) }
}
const measure = (el: unknown) => {
  if (el instanceof HTMLElement) rows.value.measureElement(el)
}
function toEnd(): void {
  atEnd.value = true
  rows.value.scrollToIndex(props.lines.length - 1, { align: 'end' })
}
</script>

<template>
  <div class="around">
    <div
      ref="box"
      class="lines mono"
      :style="{ maxHeight: height ?? '26rem' }"
      role="log"
      aria-live="off"
      tabindex="0"
      :aria-label="count(lines.length, 'log line')"
      @scroll.passive="scrolled"
    >
      <div class="all" :style="{ height: `${rows.getTotalSize()}px` }">
        <div
          v-for="r in rows.getVirtualItems()"
          :key="String(r.key)"
          :ref="measure"
          class="line"
          :class="lines[r.index]?.stream"
          :data-index="r.index"
          :style="{ transform: `translateY(${r.start}px)` }"
        >
          <time :title="exact(lines[r.index]?.at ?? 0)">{{ clock(lines[r.index]?.at ?? 0) }}</time>
          <span v-if="withFunction" class="fn">{{ lines[r.index]?.function }}</span>
          <span class="stream">{{ lines[r.index]?.stream }}</span>
          <span v-if="pick && !lines[r.index]?.invocation" class="call" />
          <button
            v-else-if="pick"
            type="button"
            class="call"
            :title="`Show only invocation ${lines[r.index]?.invocation}`"
            @click="emit('call', lines[r.index]?.invocation ?? '')"
          >
            {{ lines[r.index]?.invocation.slice(-6) }}
          </button>
          <span v-if="traced(lines[r.index])" class="text"
            >{{ traced(lines[r.index])?.before
            }}<RouterLink
              :to="{
                name: 'source',
                params: { service: source },
                query: { file: traced(lines[r.index])?.file, line: traced(lines[r.index])?.line },
              }"
              >{{ traced(lines[r.index])?.at }}</RouterLink
            >{{ traced(lines[r.index])?.after }}</span
          >
          <span v-else class="text">{{ lines[r.index]?.text }}</span>
        </div>
      </div>
      <div v-if="lines.length === 0" class="quiet">No log lines</div>
    </div>
    <button v-if="follow && !atEnd" type="button" class="btn btn-sm btn-primary end" @click="toEnd">
      Go to newest line
    </button>
  </div>
</template>

<style scoped>
.around {
  position: relative;
}
.lines {
  overflow: auto;
  background: var(--wash);
  border-radius: 3px;
  padding: 0.4rem 0.6rem;
}
.all {
  position: relative;
  width: 100%;
}
.line {
  position: absolute;
  top: 0;
  left: 0;
  width: 100%;
  display: flex;
  align-items: baseline;
  gap: 0.8rem;
}
.fn {
  width: 8.5rem;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.line time,
.stream,
.fn {
  color: var(--quiet);
  flex: none;
}
.stream {
  width: 4.2rem;
}
.call {
  flex: none;
  width: 3.4rem;
  border: 0;
  background: none;
  padding: 0;
  color: var(--fjord);
}
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  min-width: 0;
}
.err .text {
  color: var(--clay);
}
.platform .text {
  color: var(--quiet);
}
.end {
  position: absolute;
  right: 1rem;
  bottom: 0.7rem;
}
@media (max-width: 640px) {
  .line {
    flex-wrap: wrap;
    gap: 0 0.6rem;
  }
  .text {
    flex: 1 0 100%;
  }
}
</style>
