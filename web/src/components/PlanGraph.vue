<script setup lang="ts">
// The dependencies between the steps of a plan, from left to right. Steps
// that another one causes are in its box.
import { graphlib, layout } from '@dagrejs/dagre'
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { count } from '../words'

const props = defineProps<{ plan: Schemas['Plan'] }>()
const emit = defineEmits<{ pick: [functionName: string] }>()

interface Box {
  address: string
  change: string
  name: string
  more: number
  function: string
}

const drawn = computed(() => {
  const steps = props.plan.steps
  const at = new Map(steps.map((s) => [s.address, s]))
  /** The step whose box contains a step. */
  const headOf = (s: Schemas['Step']): string => {
    let head = s
    for (let i = 0; i < 4 && head.follows && at.has(head.follows); i++) head = at.get(head.follows) ?? head
    return head.address
  }
  const boxes = new Map<string, Box>()
  for (const s of steps) {
    const head = headOf(s)
    const box = boxes.get(head)
    if (box) box.more += Number(s.address !== head)
    else {
      const own = at.get(head) ?? s
      boxes.set(head, {
        address: head,
        change: own.change,
        name: head,
        more: Number(s.address !== head),
        function: own.function,
      })
    }
  }
  const g = new graphlib.Graph()
  g.setGraph({ rankdir: 'LR', nodesep: 10, ranksep: 46, marginx: 8, marginy: 8 })
  g.setDefaultEdgeLabel(() => ({}))
  for (const b of boxes.values())
    g.setNode(b.address, { width: Math.min(330, 60 + b.name.length * 7.4), height: b.more ? 42 : 28 })
  for (const s of steps)
    for (const need of s.needs) {
      const from = steps[need] && headOf(steps[need])
      const to = headOf(s)
      if (from && from !== to && !g.hasEdge(to, from)) g.setEdge(from, to)
    }
  layout(g)
  const size = g.graph()
  return {
    width: Math.ceil(size.width ?? 100),
    height: Math.ceil(size.height ?? 100),
    boxes: [...boxes.values()].map((b) => ({
      ...b,
      ...(g.node(b.address) as { x: number; y: number; width: number; height: number }),
    })),
    lines: g.edges().map((e) => ({
      key: `${e.v} ${e.w}`,
      d: ((g.edge(e).points ?? []) as { x: number; y: number }[])
        .map((p, i) => `${i ? 'L' : 'M'}${p.x.toFixed(1)} ${p.y.toFixed(1)}`)
        .join(''),
    })),
  }
})
</script>

<template>
  <div
    class="sheet box"
    tabindex="0"
    role="img"
    :aria-label="`${count(plan.steps.length, 'step')} by dependency; the lists have the same data`"
  >
    <svg :width="drawn.width" :height="drawn.height" aria-hidden="true">
      <defs>
        <marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="7" markerHeight="7" orient="auto">
          <path d="M0 0 8 4 0 8Z" fill="var(--quiet)" />
        </marker>
      </defs>
      <path v-for="l in drawn.lines" :key="l.key" :d="l.d" class="line" marker-end="url(#tip)" />
      <foreignObject
        v-for="b in drawn.boxes"
        :key="b.address"
        :x="b.x - b.width / 2"
        :y="b.y - b.height / 2"
        :width="b.width"
        :height="b.height"
      >
        <div class="step" :title="b.address" @click="emit('pick', b.function)">
          <CellPair :change="b.change" wordless /> <code class="clip">{{ b.name }}</code>
          <div v-if="b.more" class="quiet small">and {{ count(b.more, 'dependent step') }}</div>
        </div>
      </foreignObject>
    </svg>
  </div>
</template>

<style scoped>
.box {
  overflow: auto;
  max-height: 75vh;
}
.line {
  fill: none;
  stroke: var(--rule);
  stroke-width: 1.5;
}
.step {
  border: 1px solid var(--rule);
  border-radius: 3px;
  background: var(--surface);
  height: 100%;
  padding: 0.1rem 0.5rem;
  overflow: hidden;
  white-space: nowrap;
  line-height: 1.35;
}
</style>
