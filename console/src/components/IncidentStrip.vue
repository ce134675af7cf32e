<script setup lang="ts">
import { useElementSize } from '@vueuse/core'
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, span, useClock } from '../composables/clock'
import { look } from '../composables/words'

const props = defineProps<{ strip: Schemas['Strip']; open: boolean; small?: boolean }>()
const emit = defineEmits<{ pick: [entry: number] }>()

const lanes = ['evidence', 'decision', 'change', 'proof'] as const
const box = ref<HTMLElement>()
const { width: room } = useElementSize(box, { width: props.small ? 220 : 900, height: 0 })
const width = computed(() => Math.max(120, room.value))

const now = useClock()
const left = computed(() => (props.small ? 0 : 76))
const laneH = computed(() => (props.small ? 5 : 24))
const lineH = computed(() => (props.small ? 0 : props.strip.lines.length ? 92 : 0))
const top = computed(() => (props.small ? 1 : 22))
const height = computed(
  () => top.value + lanes.length * laneH.value + (lineH.value ? lineH.value + 18 : 0) + (props.small ? 1 : 22),
)
const from = computed(() => Date.parse(props.strip.from))
const to = computed(() => Math.max(from.value + 1000, props.open ? now.value : Date.parse(props.strip.to)))
const x = (at: string | number) => {
  const t = typeof at === 'number' ? at : Date.parse(at)
  return left.value + ((t - from.value) / (to.value - from.value)) * (width.value - left.value - (props.small ? 2 : 12))
}

const spans = computed(() =>
  props.strip.spans.map((s) => {
    const end = s.to ? Date.parse(s.to) : to.value
    const x0 = x(s.from)
    const seen = look(s.state === 'good' ? 'done' : s.state === 'bad' ? 'failed' : s.state)
    const took = span(end - Date.parse(s.from))
    return {
      ...s,
      says: `${s.title} · ${s.lane} · ${seen.word} · ${took} · ${clockTime(s.from)}`,
      x: x0,
      w: Math.max(props.small ? 2 : 4, x(end) - x0),
      y: top.value + lanes.indexOf(s.lane) * laneH.value,
      took,
    }
  }),
)
const marks = computed(() =>
  props.strip.marks.map((m) => ({
    ...m,
    x: x(m.at),
    opens: m.kind === 'alert.raised',
    ends: m.kind === 'incident.closed',
  })),
)

/** The reading that is drawn: the first numeric one; others would need another scale. */
const line = computed(() => props.strip.lines[0])
const series = computed(() => {
  const l = line.value
  if (!l || props.small) return []
  const most = Math.max(...l.points.map((p) => p.value), 1)
  const base = top.value + lanes.length * laneH.value + 14 + lineH.value
  const by = new Map<string, string[]>()
  for (const p of l.points)
    by.set(p.target, [
      ...(by.get(p.target) ?? []),
      `${x(p.at).toFixed(1)},${(base - (p.value / most) * (lineH.value - 8)).toFixed(1)}`,
    ])
  return [...by].map(([target, points]) => ({ target, points }))
})
const most = computed(() => Math.max(...(line.value?.points.map((p) => p.value) ?? [1]), 1))
const ticks = computed(() => {
  const n = width.value > 700 ? 6 : 3
  return Array.from({ length: n + 1 }, (_, i) => from.value + ((to.value - from.value) * i) / n)
})
const label = computed(() => {
  const waited = spans.value.filter((s) => s.lane === 'decision').reduce((a, s) => a + s.w, 0)
  return `${span(to.value - from.value)} in all; ${props.strip.spans.length} steps drawn${waited > 1 ? ', waits for people in the lane decision' : ''}`
})
</script>

<template>
  <div ref="box" class="strip" :class="{ small }">
    <svg
      :width="width"
      :height="height"
      :role="small ? 'img' : 'group'"
      :aria-label="`Strip of the incident: ${label}`"
    >
      <template v-for="(lane, i) in lanes" :key="lane">
        <rect
          :x="left"
          :y="top + i * laneH"
          :width="Math.max(0, width - left)"
          :height="laneH - (small ? 1 : 4)"
          class="lane"
        />
        <text v-if="!small" :x="0" :y="top + i * laneH + 15" class="name">{{ lane }}</text>
      </template>
      <!-- Its role and its place among the keys are bound: a small strip is a picture and has neither. -->
      <!-- eslint-disable-next-line vuejs-accessibility/no-static-element-interactions -->
      <g
        v-for="s in spans"
        :key="`${s.entry}-${s.lane}`"
        :class="['span', s.lane, s.state]"
        :tabindex="small ? undefined : 0"
        :role="small ? undefined : 'button'"
        :aria-label="s.says"
        @click="emit('pick', s.entry)"
        @keydown.enter="emit('pick', s.entry)"
      >
        <title>{{ s.says }}</title>
        <rect :x="s.x" :y="s.y" :width="s.w" :height="laneH - (small ? 1 : 4)" :rx="small ? 1 : 2" />
      </g>
      <g v-if="!small" aria-hidden="true">
        <template v-for="s in spans" :key="`${s.entry}-${s.lane}`">
          <text v-if="s.w > 70" :x="s.x + 7" :y="s.y + 14" class="in" :class="s.state">
            {{ s.w > 190 ? s.title.slice(0, Math.floor(s.w / 8)) : s.took }}
          </text>
        </template>
      </g>
      <g v-for="(m, i) in marks" :key="i" class="mark">
        <title>{{ m.title }} · {{ clockTime(m.at) }}</title>
        <line :x1="m.x" :x2="m.x" :y1="small ? 0 : 8" :y2="small ? height : top + lanes.length * laneH + lineH + 10" />
        <circle v-if="!small" :cx="m.x" cy="8" r="4" :class="{ hollow: !m.opens && !m.ends }" />
      </g>
      <template v-if="line && !small">
        <text x="0" :y="top + lanes.length * laneH + 42" class="name">{{ line.reading }}</text>
        <text x="0" :y="top + lanes.length * laneH + 57" class="tick">{{ line.unit }}</text>
        <text :x="left - 8" :y="top + lanes.length * laneH + 26" class="tick" text-anchor="end">{{ most }}</text>
        <text :x="left - 8" :y="top + lanes.length * laneH + 14 + lineH" class="tick" text-anchor="end">0</text>
        <line
          class="base"
          :x1="left"
          :x2="width"
          :y1="top + lanes.length * laneH + 14 + lineH"
          :y2="top + lanes.length * laneH + 14 + lineH"
        />
        <g v-for="(s, i) in series" :key="s.target" :class="['reading', `r${i % 3}`]">
          <polyline :points="s.points.join(' ')" />
          <circle v-for="p in s.points" :key="p" :cx="p.split(',')[0]" :cy="p.split(',')[1]" r="2.6">
            <title>{{ s.target }}</title>
          </circle>
        </g>
      </template>
      <template v-if="!small">
        <text
          v-for="(t, i) in ticks"
          :key="t"
          :x="x(t)"
          :y="height - 4"
          class="tick"
          :text-anchor="i === 0 ? 'start' : i === ticks.length - 1 ? 'end' : 'middle'"
        >
          {{ clockTime(new Date(t).toISOString()) }}
        </text>
      </template>
    </svg>
  </div>
</template>

<style scoped>
.strip {
  width: 100%;
  overflow: hidden;
}
.strip svg {
  display: block;
}
.lane {
  fill: rgba(var(--v-theme-on-surface), 0.05);
}
.name {
  font-size: 12px;
  font-weight: 550;
  fill: rgb(var(--v-theme-on-surface));
}
.tick {
  font-size: 11px;
  fill: rgba(var(--v-theme-on-surface), 0.68);
  font-variant-numeric: tabular-nums;
}
.span rect {
  fill: rgb(var(--v-theme-primary));
}
.span.evidence rect {
  fill: rgb(var(--v-theme-info));
}
.span.decision rect {
  fill: rgb(var(--v-theme-secondary));
}
.span.proof rect {
  fill: rgb(var(--v-theme-success));
}
.span.waiting rect {
  fill: rgb(var(--v-theme-warning));
}
.span.unsure rect {
  fill: rgb(var(--v-theme-warning));
  fill-opacity: 0.35;
  stroke: rgb(var(--v-theme-warning));
  stroke-dasharray: 3 2;
}
.span.bad rect {
  fill: rgb(var(--v-theme-error));
}
.span.going rect {
  fill-opacity: 0.6;
}
.strip:not(.small) .span {
  cursor: pointer;
}
.in {
  font-size: 11.5px;
  fill: rgb(var(--v-theme-surface));
  pointer-events: none;
  font-weight: 550;
}
.in.unsure {
  fill: rgb(var(--v-theme-on-surface));
}
.mark line {
  stroke: rgba(var(--v-theme-on-surface), 0.35);
  stroke-dasharray: 2 3;
}
.mark circle {
  fill: rgb(var(--v-theme-on-surface));
}
.mark circle.hollow {
  fill: rgb(var(--v-theme-surface));
  stroke: rgb(var(--v-theme-on-surface));
  stroke-width: 1.5;
}
.base {
  stroke: rgba(var(--v-theme-on-surface), 0.25);
}
.reading polyline {
  fill: none;
  stroke: rgb(var(--v-theme-primary));
  stroke-width: 1.8;
}
.reading circle {
  fill: rgb(var(--v-theme-primary));
}
.reading.r1 polyline {
  stroke: rgb(var(--v-theme-info));
  stroke-dasharray: 5 3;
}
.reading.r1 circle {
  fill: rgb(var(--v-theme-info));
}
.reading.r2 polyline {
  stroke: rgb(var(--v-theme-secondary));
  stroke-dasharray: 2 2;
}
</style>
