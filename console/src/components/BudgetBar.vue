<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useObjectiveCourse, type Stretch } from '../composables/data'
import type { Mark } from '../composables/chart'
import { burnSays, percent } from '../composables/objective'
import { PlotChart } from './lazy'

/** An objective: what is left of its budget as a bar, how fast that burns, and, unfolded, how it came to this. */
const props = defineProps<{ objective: Schemas['Objective']; stretch: Stretch; marks: Mark[] }>()
const open = ref(false)
const q = useObjectiveCourse(props.objective.name, () => props.stretch, open)
const points = computed(() => q.data.value?.points ?? [])
const good = computed(() =>
  points.value.filter((p) => p.good + p.bad > 0).map((p) => ({ at: p.at, value: (100 * p.good) / (p.good + p.bad) })),
)
const left = computed(() =>
  points.value.map((p) => ({ at: p.at, value: p.left === undefined ? undefined : 100 * p.left })),
)
const burning = computed(() => props.objective.burns.some((b) => b.on))
/** How much of the bar is left, from 0 to 1. */
const share = computed(() => Math.min(1, Math.max(0, props.objective.left ?? 0)))
const known = computed(
  () => props.objective.left !== undefined && props.objective.share !== undefined && !props.objective.broken,
)
</script>

<template>
  <section class="objective" :aria-label="objective.title">
    <div class="line">
      <div class="what">
        <h3>{{ objective.title }}</h3>
        <span class="faint">target {{ objective.says }}</span>
      </div>
      <div class="budget">
        <template v-if="known">
          <div class="bar" role="img" :aria-label="`${percent(objective.left)} of the budget left`">
            <span class="spent" :style="{ flexGrow: 1 - share }" /><span class="rest" :style="{ flexGrow: share }" />
          </div>
          <div class="under num">
            <span>{{ percent(objective.share) }} good</span>
            <strong :class="{ bad: share <= 0 }">{{ percent(objective.left) }} of the budget left</strong>
          </div>
        </template>
        <p v-else-if="objective.broken" role="alert" class="wrong">{{ objective.broken }}</p>
        <p v-else class="faint">Nothing is known of it yet.</p>
      </div>
      <div class="burn">
        <strong v-if="known" :class="{ bad: burning }">{{ burnSays(objective) }}</strong>
        <span v-if="objective.unknown_minutes" class="faint">
          nothing known for {{ objective.unknown_minutes }} min
        </span>
        <button type="button" class="fold" :aria-expanded="open" @click="open = !open">
          {{ open ? 'Hide its course' : 'Its course' }}
        </button>
      </div>
    </div>
    <p v-if="objective.why_unknown" class="wait">Not known now: {{ objective.why_unknown }}</p>
    <div v-if="open && q.data.value && points.length" class="two">
      <PlotChart
        :lines="[{ name: '', points: good, strong: true }]"
        :from="Date.parse(q.data.value.from)"
        :until="Date.parse(q.data.value.until)"
        unit="% good"
        :marks="marks"
        :limit="{ op: '>=', value: 100 * (objective.target ?? 0) }"
        :height="110"
        :says="`${objective.title}: ${percent(objective.share)} good of each interval`"
      />
      <PlotChart
        :lines="[{ name: '', points: left, strong: true }]"
        :from="Date.parse(q.data.value.from)"
        :until="Date.parse(q.data.value.until)"
        unit="% of the budget left"
        :marks="marks"
        :limit="{ op: '>', value: 0 }"
        :height="110"
        :says="`${objective.title}: ${percent(objective.left)} of the budget left`"
      />
    </div>
    <p v-else-if="open && q.isSuccess.value" class="faint">Nothing was measured in this time.</p>
  </section>
</template>

<style scoped>
.objective {
  padding: 8px 0;
}
.line {
  display: grid;
  grid-template-columns: minmax(140px, 200px) minmax(0, 1fr) minmax(120px, auto);
  gap: 4px 24px;
  align-items: start;
}
.what,
.burn {
  display: flex;
  flex-direction: column;
  font-size: 12.5px;
}
.burn {
  text-align: right;
  align-items: flex-end;
}
.burn strong {
  font-size: 14px;
}
h3 {
  font-size: 15px;
  font-weight: 650;
  margin: 0;
}
.bar {
  display: flex;
  height: 16px;
  border-radius: 2px;
  overflow: hidden;
  background: rgba(var(--v-theme-on-surface), 0.12);
}
.spent {
  background: rgba(var(--v-theme-on-surface), 0.55);
}
.rest {
  background: rgb(var(--v-theme-primary));
}
.under {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 0 12px;
  font-size: 12.5px;
}
.bad {
  color: rgb(var(--v-theme-error));
}
.fold {
  min-height: 24px;
  border: 0;
  background: none;
  color: rgb(var(--v-theme-primary));
  font: inherit;
  cursor: pointer;
}
.two {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 340px), 1fr));
  gap: 0 20px;
  margin-top: 6px;
}
@media (max-width: 700px) {
  .line {
    grid-template-columns: minmax(0, 1fr);
  }
  .burn {
    text-align: left;
    align-items: flex-start;
  }
}
</style>
