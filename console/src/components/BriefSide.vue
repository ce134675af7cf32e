<script setup lang="ts">
import type { Schemas } from '../api/client'
import { worstFirst } from '../composables/chart'
import { exact, relative, useClock } from '../composables/clock'
import { PlotChart } from './lazy'

// Whom it harms, how it stands, and how it went before: the same for whatever somebody is asked. Where the page says
// harm and how it stands above (`banded`), they are not said twice.
defineProps<{ brief: Schemas['Brief']; undrawn?: boolean; banded?: boolean }>()
const now = useClock()

const timesOf = (t: Schemas['Trend']) => t.points.map((p) => Date.parse(p.at))
/** A line needs two moments; what was taken once is said in words. */
const moved = (t: Schemas['Trend']) => Math.max(...timesOf(t)) - Math.min(...timesOf(t)) > 1000
const linesOf = (t: Schemas['Trend']) => {
  const targets = [...new Set(t.points.map((p) => p.target))]
  const lines = targets.map((name) => ({ name, points: t.points.filter((p) => p.target === name) }))
  return worstFirst(lines, t.wanted).map((l, i) => ({ ...l, strong: i < 2 }))
}
</script>

<template>
  <div class="side">
    <template v-if="!banded">
      <p v-if="brief.harm" class="harm">
        <span class="label">Harm</span> <strong>{{ brief.harm }}</strong>
      </p>
      <p v-else class="harm none"><span class="label">Harm</span> not stated by the author</p>
      <div v-for="t in brief.trends.slice(0, 2)" :key="t.reading" class="reading">
        <p><span class="label">Trend</span> {{ t.says }}</p>
        <PlotChart
          v-if="!undrawn && moved(t)"
          :lines="linesOf(t)"
          :from="Math.min(...timesOf(t))"
          :until="now"
          :unit="t.unit"
          :limit="t.wanted"
          :height="110"
          :says="t.says"
        />
      </div>
    </template>
    <p v-if="brief.history.says" class="before">
      <strong>{{ brief.history.says }}</strong>
      <template v-if="brief.history.last"
        >&#32;Last
        <span :title="exact(brief.history.last.at)">{{ relative(brief.history.last.at, now) }}</span><template
          v-if="brief.history.last.incident"
          >, in
          <router-link :to="`/incidents/${brief.history.last.incident}`"
            >incident {{ brief.history.last.incident }}</router-link
          ></template
        >.</template
      >
    </p>
    <slot />
  </div>
</template>

<style scoped>
.label {
  font-size: 12px;
  font-weight: 650;
  margin-right: 6px;
}
.harm strong,
.before strong {
  font-weight: 620;
}
.harm.none {
  color: rgb(var(--v-theme-warning));
}
.before {
  font-size: 13px;
  line-height: 18px;
  margin: 4px 0 6px;
}
@media (max-width: 700px) {
  .before {
    margin: 2px 0;
  }
}
</style>
