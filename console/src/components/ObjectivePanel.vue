<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { coursePoints, useObjectiveCourse, type Stretch } from '../composables/data'
import { burnSays, percent } from '../composables/objective'
import TimeChart from './TimeChart.vue'

// An objective: what is good, what is left of its budget, how fast that burns, and how it came to this.
const props = defineProps<{ objective: Schemas['Objective']; stretch: Stretch; marks: Schemas['ServiceMark'][] }>()
const q = useObjectiveCourse(props.objective.name, () => props.stretch)
const points = computed(() => q.data.value?.points ?? [])
const good = computed(() =>
  points.value.filter((p) => p.good + p.bad > 0).map((p) => ({ at: p.at, value: (100 * p.good) / (p.good + p.bad) })),
)
const left = computed(() =>
  points.value.map((p) => ({ at: p.at, value: p.left === undefined ? undefined : 100 * p.left })),
)
const burning = computed(() => props.objective.burns.filter((b) => b.on))
</script>

<template>
  <section class="objective" :aria-label="objective.title">
    <h3>
      {{ objective.title }} <span class="faint mono">{{ objective.name }}</span>
    </h3>
    <p v-if="objective.broken" role="alert" class="wrong">{{ objective.broken }}</p>
    <p v-else class="facts">
      <span v-if="objective.share === undefined">nothing is known yet; target {{ objective.says }}</span>
      <span v-else
        ><b class="num">{{ percent(objective.share) }}</b> good, target {{ objective.says }}</span
      >
      <span
        ><b class="num">{{ percent(objective.left) }}</b> of the budget left</span
      >
      <span :class="{ bad: burning.length }">{{ burnSays(objective) }}</span>
      <span v-if="objective.unknown_minutes" class="faint">
        nothing known for {{ objective.unknown_minutes }} min
      </span>
      <span v-if="objective.why_unknown" class="wait">not known now: {{ objective.why_unknown }}</span>
    </p>
    <div v-if="q.data.value && points.length" class="two">
      <div>
        <div class="faint name">good, % of each interval; dashed: target</div>
        <TimeChart
          :lines="[{ name: '', points: good }]"
          :from="Date.parse(q.data.value.from)"
          :until="Date.parse(q.data.value.until)"
          unit="% good"
          :marks="marks"
          :level="100 * (objective.target ?? 0)"
          :points="coursePoints"
          :height="96"
          :says="`${objective.title}: ${percent(objective.share)} good`"
        />
      </div>
      <div>
        <div class="faint name">budget left, %; dashed: zero</div>
        <TimeChart
          :lines="[{ name: '', points: left, strong: true }]"
          :from="Date.parse(q.data.value.from)"
          :until="Date.parse(q.data.value.until)"
          unit="% left"
          :marks="marks"
          :level="0"
          :points="coursePoints"
          :height="96"
          :says="`${objective.title}: ${percent(objective.left)} of the budget left`"
        />
      </div>
    </div>
    <p v-else-if="q.isSuccess.value" class="faint">Nothing was measured in this time.</p>
  </section>
</template>

<style scoped>
.objective {
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  padding: 8px 0 4px;
}
h3 {
  font-size: 14px;
  font-weight: 600;
}
.facts {
  display: flex;
  flex-wrap: wrap;
  gap: 0 20px;
}
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 340px), 1fr));
  gap: 0 20px;
  margin-top: 6px;
}
.name {
  font-size: 12px;
}
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
