<script setup lang="ts">
import '@vue-flow/core/dist/style.css'

import { BaseEdge, Handle, Position, useVueFlow, VueFlow, type Edge, type Node } from '@vue-flow/core'
import { MiniMap } from '@vue-flow/minimap'
import { useElementSize } from '@vueuse/core'
import { computed, ref, watch } from 'vue'

import type { Schemas } from '../api/client'

// The service says where everything stands; here it can be moved about in, and is only drawn.
const props = defineProps<{
  graph: Schemas['Graph']
  /** The step that is worked on. */
  picked?: string
}>()
const emit = defineEmits<{ pick: [path: string] }>()

const { setViewport, zoomIn, zoomOut, fitView, onPaneReady } = useVueFlow()
const box = ref<HTMLElement>()
const { width } = useElementSize(box)

const nodes = computed<Node<Schemas['Node']>[]>(() =>
  props.graph.nodes.map((n) => ({
    id: n.id,
    type: 'step',
    position: { x: n.x, y: n.y },
    width: n.width,
    height: n.height,
    data: n,
    ariaLabel: [n.kind.replaceAll('_', ' '), n.title, n.state].filter(Boolean).join(', '),
    focusable: !!n.path,
  })),
)
const edges = computed<Edge<Schemas['Edge']>[]>(() =>
  props.graph.edges.map((e, i) => ({
    id: `${i}`,
    type: 'way',
    source: e.from,
    target: e.to,
    data: e,
    focusable: false,
  })),
)

/** From the top, as wide as it can be read. */
const zoom = computed(() => Math.min(1, Math.max(0.8, width.value / props.graph.width)))
const begin = () => setViewport({ x: 0, y: 0, zoom: zoom.value })
onPaneReady(begin)
watch(() => [props.graph.width, width.value], begin)
const large = computed(() => props.graph.height > 900 || props.graph.width > 1400)
</script>

<template>
  <div
    ref="box"
    class="flow"
    :style="{ height: `min(76vh, ${Math.ceil(graph.height * zoom) + 8}px)` }"
    role="region"
    aria-label="The flow of the runbook"
  >
    <p class="unseen">{{ graph.text }}</p>
    <svg class="unseen" aria-hidden="true">
      <marker
        v-for="m in ['arrow', 'arrow-taken']"
        :id="m"
        :key="m"
        :class="m"
        markerUnits="userSpaceOnUse"
        viewBox="0 0 8 8"
        refX="8"
        refY="4"
        markerWidth="8"
        markerHeight="8"
        orient="auto"
      >
        <path d="M0 0 L8 4 L0 8 Z" />
      </marker>
    </svg>
    <VueFlow
      :nodes="nodes"
      :edges="edges"
      :min-zoom="0.2"
      :max-zoom="2"
      :nodes-draggable="false"
      :nodes-connectable="false"
      :edges-updatable="false"
      :zoom-on-scroll="false"
      :zoom-on-double-click="false"
      :prevent-scrolling="false"
      @node-click="({ node }) => node.data.path && emit('pick', node.data.path)"
    >
      <template #node-step="{ data: n }">
        <Handle type="target" :position="Position.Top" class="unseen" />
        <svg
          :width="n.width"
          :height="n.height"
          :class="['node', n.kind, n.state, { step: n.path, picked: picked && n.path === picked }]"
        >
          <title>{{ n.title }}</title>
          <rect x="1" y="1" :width="n.width - 2" :height="n.height - 2" :rx="n.corner" />
          <text v-for="l in n.lines" :key="l.y" x="10" :y="l.y" :class="{ small: l.small }">{{ l.text }}</text>
        </svg>
        <Handle type="source" :position="Position.Bottom" class="unseen" />
      </template>
      <template #edge-way="{ id, data: e }">
        <BaseEdge
          :id="id"
          :path="e.d"
          :marker-end="`url(#${e.taken ? 'arrow-taken' : 'arrow'})`"
          :class="{ taken: e.taken, proves: e.proves }"
        />
        <text v-if="e.label" :x="e.x" :y="e.y" class="small">{{ e.label }}</text>
      </template>
      <MiniMap v-if="large" :width="120" :height="90" pannable aria-label="Where this is in the whole" />
    </VueFlow>
    <div class="zoom">
      <v-btn size="x-small" variant="flat" aria-label="Larger" @click="zoomIn()">+</v-btn>
      <v-btn size="x-small" variant="flat" aria-label="Smaller" @click="zoomOut()">−</v-btn>
      <v-btn size="x-small" variant="flat" @click="fitView()">Whole</v-btn>
      <v-btn size="x-small" variant="flat" @click="begin()">Top</v-btn>
    </div>
  </div>
</template>

<style scoped>
.flow {
  position: relative;
  min-height: 160px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  border-radius: 4px;
  background: rgb(var(--v-theme-surface));
}
.zoom {
  position: absolute;
  top: -34px;
  right: 0;
  display: flex;
  gap: 4px;
}
.unseen {
  position: absolute;
  width: 1px;
  height: 1px;
  min-width: 0;
  min-height: 0;
  overflow: hidden;
  opacity: 0;
  pointer-events: none;
}
.arrow path {
  fill: rgb(var(--v-theme-on-surface));
  fill-opacity: 0.45;
}
.arrow-taken path {
  fill: rgb(var(--v-theme-primary));
}
text {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 12px;
}
.small {
  font-size: 10.5px;
  fill: rgba(var(--v-theme-on-surface), 0.72);
}
.node {
  display: block;
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
  stroke-width: 2;
}
.node.waiting rect {
  stroke: rgb(var(--v-theme-warning));
  stroke-width: 2;
}
.node.failed rect {
  stroke: rgb(var(--v-theme-error));
  stroke-width: 2;
}
.node.skipped {
  opacity: 0.6;
}
.flow :deep(.vue-flow__edge-path) {
  stroke: rgba(var(--v-theme-on-surface), 0.45);
}
.flow :deep(.taken .vue-flow__edge-path),
.flow :deep(.vue-flow__edge-path.taken) {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 2.5;
}
.flow :deep(.vue-flow__edge-path.proves) {
  stroke-dasharray: 2 3;
}
.flow :deep(.vue-flow__minimap) {
  position: absolute;
  right: 6px;
  bottom: 6px;
  background: rgb(var(--v-theme-background));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
}
.flow :deep(.vue-flow__minimap-mask) {
  fill: rgba(var(--v-theme-on-surface), 0.12);
}
.flow :deep(.vue-flow__minimap-node) {
  fill: rgba(var(--v-theme-on-surface), 0.5);
}
.node.picked rect {
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 3;
}
</style>
