<script setup lang="ts">
import type { Schemas } from '../api/client'

// The service says where everything stands; here it is only drawn.
defineProps<{ graph: Schemas['Graph'] }>()
const emit = defineEmits<{ pick: [path: string] }>()
</script>

<template>
  <div class="flow" tabindex="0" role="region" aria-label="The flow of the runbook">
    <svg
      :viewBox="`0 0 ${graph.width} ${graph.height}`"
      :width="graph.width"
      :height="graph.height"
      role="img"
      :aria-label="graph.text"
    >
      <defs>
        <marker
          id="head"
          viewBox="0 0 8 8"
          refX="7"
          refY="4"
          markerWidth="8"
          markerHeight="8"
          orient="auto"
          markerUnits="userSpaceOnUse"
        >
          <path d="M0 0L8 4L0 8Z" class="head" />
        </marker>
      </defs>
      <template v-for="e in graph.edges" :key="`${e.from}>${e.to}${e.label}`">
        <path :d="e.d" class="edge" :class="{ taken: e.taken, proves: e.proves }" marker-end="url(#head)" />
        <text v-if="e.label" :x="e.x" :y="e.y" class="small">{{ e.label }}</text>
      </template>
      <g
        v-for="n in graph.nodes"
        :key="n.id"
        :transform="`translate(${n.x} ${n.y})`"
        :class="['node', n.kind, n.state, { step: n.path }]"
        @click="n.path && emit('pick', n.path)"
      >
        <title>{{ n.title }}</title>
        <rect :width="n.width" :height="n.height" :rx="n.corner" />
        <text v-for="l in n.lines" :key="l.y" x="10" :y="l.y" :class="{ small: l.small }">{{ l.text }}</text>
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
.node.start rect,
.node.gate rect {
  stroke-dasharray: 5 3;
}
.node.reached rect {
  fill: rgba(var(--v-theme-primary), 0.16);
}
.node.taken rect,
.node.reached rect {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2.5;
}
.node.waiting rect {
  stroke: rgb(var(--v-theme-warning));
  stroke-width: 2.5;
}
.node.failed rect {
  stroke: rgb(var(--v-theme-error));
  stroke-width: 2.5;
}
.node.skipped {
  opacity: 0.6;
}
.head {
  fill: rgba(var(--v-theme-on-surface), 0.6);
}
.edge {
  fill: none;
  stroke: rgba(var(--v-theme-on-surface), 0.4);
}
.edge.taken {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2.5;
}
.edge.proves {
  stroke-dasharray: 2 3;
}
</style>
