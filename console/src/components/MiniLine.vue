<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { misses, scaleOf, short } from '../composables/chart'
import { clockTime } from '../composables/clock'

/** The leading reading of an incident in a small picture: its worst target, and the limit dashed. */
const props = defineProps<{ reading: Schemas['LeadingReading'] }>()
const width = 150
const height = 44
const line = computed(() => props.reading.lines[0]?.points ?? [])
const scale = computed(() => scaleOf([{ name: '', points: line.value }], props.reading.limit))
const from = computed(() => Date.parse(props.reading.from))
const to = computed(() => Math.max(from.value + 1000, Date.parse(props.reading.until)))
const x = (at: string) => ((Date.parse(at) - from.value) / (to.value - from.value)) * (width - 8)
const y = (v: number) => 2 + (1 - (v - scale.value.min) / (scale.value.max - scale.value.min)) * (height - 4)
const parts = computed(() => {
  const out: string[][] = [[]]
  for (const p of line.value) {
    if (p.value === undefined) out.push([])
    else out.at(-1)?.push(`${x(p.at).toFixed(1)},${y(p.value).toFixed(1)}`)
  }
  return out.filter((p) => p.length)
})
const last = computed(() => line.value.filter((p) => p.value !== undefined).at(-1))
const limit = computed(() => props.reading.limit?.value)
const bad = computed(() => misses(props.reading.value, props.reading.limit))
const says = computed(
  () => `${props.reading.says}, from ${clockTime(props.reading.from)} to ${clockTime(props.reading.until)}`,
)
</script>

<template>
  <figure v-if="last" class="mini" :class="{ bad }">
    <svg :viewBox="`0 0 ${width} ${height}`" :width="width" :height="height" role="img" :aria-label="says">
      <line
        v-if="limit !== undefined && !scale.beyond"
        class="limit"
        x1="0"
        :x2="width - 6"
        :y1="y(limit)"
        :y2="y(limit)"
      />
      <polyline v-for="p in parts" :key="p[0]" class="line" :points="p.join(' ')" />
      <circle :cx="x(last.at)" :cy="y(last.value ?? 0)" r="3" />
    </svg>
    <figcaption v-if="limit !== undefined">
      {{ scale.beyond ? 'target far off' : 'dashed' }}: {{ reading.limit?.op }} {{ short(limit) }} {{ reading.unit }}
    </figcaption>
  </figure>
</template>

<style scoped>
.mini {
  margin: 0;
  color: rgb(var(--v-theme-primary));
}
.bad {
  color: rgb(var(--v-theme-error));
}
svg {
  display: block;
}
.line {
  fill: none;
  stroke: currentColor;
  stroke-width: 1.75;
}
circle {
  fill: currentColor;
}
.limit {
  stroke: rgb(var(--v-theme-on-surface));
  stroke-dasharray: 5 3;
}
figcaption {
  font-size: 12px;
  line-height: 16px;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
</style>
