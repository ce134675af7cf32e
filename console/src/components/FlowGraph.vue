<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

const props = defineProps<{ graph: Schemas['Graph'] }>()
const emit = defineEmits<{ pick: [path: string] }>()

const pad = 14
const nodes = computed(() => new Map(props.graph.nodes.map((n) => [n.id, n])))
const edges = computed(() =>
  props.graph.edges.flatMap((e) => {
    const [from, to] = [nodes.value.get(e.from), nodes.value.get(e.to)]
    if (!from || !to) return []
    const [x1, y1, x2, y2] = [from.x + 24 + pad, from.y + from.height + pad, to.x + 24 + pad, to.y + pad]
    return [{ ...e, d: `M${x1} ${y1}V${y2 - 17}H${x2}V${y2}`, x: x2 + 5, y: y2 - 5 }]
  }),
)
const took = (ms: number) =>
  ms < 1000 ? `${ms} ms` : ms < 60_000 ? `${(ms / 1000).toFixed(1)} s` : `${Math.round(ms / 60_000)} min`
const says = (n: Schemas['Node']) =>
  [
    n.kind.replace('_', ' '),
    n.state,
    n.times && n.times > 1 ? `${n.times} times` : '',
    n.took_ms ? took(n.took_ms) : '',
  ]
    .filter(Boolean)
    .join(' · ')
const clip = (s: string) => (s.length > 33 ? `${s.slice(0, 32)}…` : s)
const round = (kind: string) => (kind === 'change' ? 0 : ['begin', 'end', 'close', 'hand_over'].includes(kind) ? 22 : 7)
</script>

<template>
  <div class="flow" tabindex="0" role="region" aria-label="The flow of the runbook">
    <svg
      :viewBox="`0 0 ${graph.width + 2 * pad} ${graph.height + 2 * pad}`"
      :width="graph.width + 2 * pad"
      :height="graph.height + 2 * pad"
      role="img"
      :aria-label="graph.text"
    >
      <template v-for="e in edges" :key="`${e.from}>${e.to}${e.label}`">
        <path :d="e.d" class="edge" :class="{ taken: e.taken }" />
        <text v-if="e.label" :x="e.x" :y="e.y" class="small">{{ e.label }}</text>
      </template>
      <g
        v-for="n in graph.nodes"
        :key="n.id"
        :transform="`translate(${n.x + pad} ${n.y + pad})`"
        :class="['node', n.state, { step: n.path }]"
        @click="n.path && emit('pick', n.path)"
      >
        <title>{{ n.title }}</title>
        <rect :width="n.width" :height="n.height" :rx="round(n.kind)" />
        <text x="10" y="17" class="small">{{ says(n) }}</text>
        <text x="10" y="35">{{ clip(n.title) }}</text>
      </g>
    </svg>
  </div>
</template>

<style scoped>
.flow {
  overflow: auto;
  max-height: 76vh;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  border-radius: 4px;
  background: rgb(var(--v-theme-surface));
}
text {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 12px;
}
.small {
  font-size: 10.5px;
  fill: rgba(var(--v-theme-on-surface), 0.72);
}
.node rect {
  fill: rgb(var(--v-theme-surface));
  stroke: rgba(var(--v-theme-on-surface), 0.55);
}
.node.step {
  cursor: pointer;
}
.node.taken rect {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2.5;
}
.node.waiting rect {
  stroke: rgb(var(--v-theme-warning));
  stroke-width: 2.5;
  stroke-dasharray: 6 3;
}
.node.failed rect {
  stroke: rgb(var(--v-theme-error));
  stroke-width: 2.5;
}
.node.skipped rect {
  stroke-dasharray: 2 3;
}
.edge {
  fill: none;
  stroke: rgba(var(--v-theme-on-surface), 0.4);
}
.edge.taken {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2.5;
}
</style>
