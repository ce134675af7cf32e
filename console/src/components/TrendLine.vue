<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime } from '../composables/clock'

// A number that a gate rests on, drawn since it was first taken, with its target dashed.
const props = defineProps<{ trend: Schemas['Trend'] }>()

// A phone has little room above the fold.
const height = window.innerWidth < 700 ? 30 : 56
const box = ref<HTMLElement>()
const { width: room } = useElementSize(box, { width: 320, height })
const width = computed(() => Math.max(120, room.value))
const points = computed(() => props.trend.points.map((p) => ({ ...p, time: Date.parse(p.at) })))
const from = computed(() => Math.min(...points.value.map((p) => p.time)))
const to = computed(() => Math.max(from.value + 1000, ...points.value.map((p) => p.time)))
const bounds = computed(() => {
  const values = points.value.map((p) => p.value)
  if (props.trend.wanted) values.push(props.trend.wanted.value ?? 0)
  const low = Math.min(0, ...values)
  return { low, high: Math.max(low + 1, ...values) }
})
const x = (time: number) => 4 + ((time - from.value) / (to.value - from.value)) * (width.value - 8)
const y = (value: number) =>
  height - 4 - ((value - bounds.value.low) / (bounds.value.high - bounds.value.low)) * (height - 10)
const lines = computed(() => {
  const by = new Map<string, string[]>()
  for (const p of points.value)
    by.set(p.target, [...(by.get(p.target) ?? []), `${x(p.time).toFixed(1)},${y(p.value).toFixed(1)}`])
  return [...by].map(([target, at]) => ({ target, at: at.join(' ') }))
})
const limit = computed(() => (props.trend.wanted ? y(props.trend.wanted.value ?? 0) : undefined))
const says = computed(
  () =>
    `${props.trend.says}; taken ${points.value.length} times from ${clockTime(new Date(from.value).toISOString())} to ` +
    clockTime(new Date(to.value).toISOString()),
)
</script>

<template>
  <div ref="box" class="trend">
    <svg :viewBox="`0 0 ${width} ${height}`" :height="height" :width="width" role="img" :aria-label="says">
      <line v-if="limit !== undefined" class="limit" :x1="0" :x2="width" :y1="limit" :y2="limit" />
      <polyline v-for="l in lines" :key="l.target" class="line" :points="l.at" />
      <circle
        v-for="p in points"
        :key="p.target + p.at"
        :cx="x(p.time)"
        :cy="y(p.value)"
        r="2.2"
        :class="p.for_gate ? 'later' : 'taken'"
      >
        <title>{{ p.value }} {{ trend.unit }} on {{ p.target || 'this host' }}, {{ clockTime(p.at) }}</title>
      </circle>
    </svg>
  </div>
</template>

<style scoped>
.trend {
  width: 100%;
  overflow: hidden;
}
svg {
  display: block;
}
.limit {
  stroke: rgb(var(--v-theme-success));
  stroke-dasharray: 5 4;
}
.line {
  fill: none;
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.4;
  opacity: 0.65;
}
.taken {
  fill: rgb(var(--v-theme-on-surface));
}
.later {
  fill: rgb(var(--v-theme-surface));
  stroke: rgb(var(--v-theme-on-surface));
}
</style>
