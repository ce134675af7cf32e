<script setup lang="ts">
import ActButton from './ActButton.vue'
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { useAround, useBacks, useLookBack } from '../composables/data'
import TimeAgo from './TimeAgo.vue'
import { PlotChart } from './lazy'

// What outside stores have of the time around an incident: numbers drawn with what happened, log lines by their shape.
const props = defineProps<{ number: number; may: boolean }>()
const q = useBacks(() => props.number)
const around = useAround(() => props.number)
const look = useLookBack(() => props.number)
const offered = computed(() => q.data.value?.offered ?? [])
const taken = computed(() => q.data.value?.taken ?? [])
const shownShapes = 12

function marksOf(b: Schemas['Back']) {
  const before = around.data.value?.before ?? []
  return [...before, { at: b.onset, what: 'incident', title: 'it began' }].filter(
    (m) => m.at >= b.from && m.at <= b.until,
  )
}
function seriesOf(b: Schemas['Back']) {
  return [...new Set(b.series.map((s) => s.name))].map((name) => {
    const lines = b.series.filter((s) => s.name === name)
    return { name, unit: lines[0]!.unit ?? '', lines: lines.map((s) => ({ name: s.target ?? '', points: s.points })) }
  })
}
function says(name: string, unit: string, lines: { points: { value: number }[] }[]) {
  const all = lines.flatMap((l) => l.points.map((p) => p.value))
  return `${name}: ${lines.length} lines, from ${Math.min(...all)} to ${Math.max(...all)} ${unit}`
}
</script>

<template>
  <section v-if="offered.length || taken.length" aria-label="Looked back" class="back">
    <div class="head">
      <h2>History from outside stores</h2>
      <ActButton
        v-if="may && offered.length"
        size="small"
        variant="outlined"
        :loading="look.isPending.value"
        @click="look.mutate()"
      >
        {{ taken.length ? 'Query again' : 'Query' }}
      </ActButton>
    </div>
    <p v-if="look.error.value" role="alert" class="wrong">{{ look.error.value.message }}</p>
    <p v-if="!taken.length" class="faint">Not queried yet: {{ offered.map((o) => o.title).join('; ') }}.</p>
    <article v-for="b in taken" :key="b.lookback">
      <h3>
        {{ b.title }} <span class="faint">asked <TimeAgo :at="b.at" /> by {{ b.actor }}</span>
      </h3>
      <p v-for="m in b.missing" :key="m" class="wrong">Missing: {{ m }}</p>
      <div v-for="s in seriesOf(b)" :key="s.name">
        <div class="name">
          <span class="mono">{{ s.name }}</span> <span class="faint">{{ s.unit }}</span>
        </div>
        <PlotChart
          :lines="s.lines"
          :from="Date.parse(b.from)"
          :until="Date.parse(b.until)"
          :unit="s.unit"
          :marks="marksOf(b)"
          :says="says(s.name, s.unit, s.lines)"
        />
      </div>
      <table v-if="b.shapes.length" class="plain" aria-label="Log lines by their shape">
        <thead>
          <tr>
            <th>lines</th>
            <th>before</th>
            <th>since</th>
            <th>shape</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="x in b.shapes.slice(0, shownShapes)" :key="x.text" :title="x.example">
            <td>{{ x.count }}</td>
            <td>{{ x.before }}</td>
            <td>{{ x.since }}</td>
            <td class="mono shape"><span v-if="x.before === 0 && x.since > 0" class="wait">new</span> {{ x.text }}</td>
          </tr>
        </tbody>
      </table>
      <p v-if="b.shapes.length > shownShapes || b.more" class="faint">
        and {{ Math.max(0, b.shapes.length - shownShapes) + (b.more ?? 0) }} more
      </p>
    </article>
  </section>
</template>

<style scoped>
.back {
  margin: 10px 0;
}
.head {
  display: flex;
  gap: 12px;
  align-items: center;
}
.name {
  font-size: 13px;
}
h3 {
  font-size: 14px;
  margin: 8px 0 2px;
}
.shape {
  overflow-wrap: anywhere;
}
</style>
