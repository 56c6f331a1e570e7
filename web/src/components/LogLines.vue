<script setup lang="ts">
import { nextTick, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { clock, exact } from '../words'

const props = defineProps<{ lines: Schemas['LogLine'][]; follow?: boolean; withFunction?: boolean; height?: string }>()
const box = ref<HTMLElement | null>(null)

watch(
  () => props.lines.length,
  async () => {
    if (!props.follow || !box.value) return
    const { scrollTop, scrollHeight, clientHeight } = box.value
    if (scrollHeight - scrollTop - clientHeight > 80) return // somebody reads further up
    await nextTick()
    box.value.scrollTop = box.value.scrollHeight
  },
)
</script>

<template>
  <div ref="box" class="lines mono" :style="{ maxHeight: height ?? '26rem' }" role="log" tabindex="0" aria-label="Log lines">
    <div v-for="l in lines" :key="l.id" class="line" :class="l.stream">
      <time :title="exact(l.at)">{{ clock(l.at) }}</time>
      <span v-if="withFunction" class="fn">{{ l.function }}</span>
      <span class="stream">{{ l.stream }}</span>
      <span class="text">{{ l.text }}</span>
    </div>
    <div v-if="lines.length === 0" class="quiet">no lines yet</div>
  </div>
</template>

<style scoped>
.lines {
  overflow: auto;
  background: var(--wash);
  border-radius: 3px;
  padding: 0.4rem 0.6rem;
}
.line {
  display: flex;
  gap: 0.8rem;
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
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.err .text {
  color: var(--clay);
}
.platform .text {
  color: var(--quiet);
}
</style>
