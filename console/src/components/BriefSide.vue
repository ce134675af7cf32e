<script setup lang="ts">
import type { Schemas } from '../api/client'
import { exact, relative, useClock } from '../composables/clock'
import TrendLine from './TrendLine.vue'

// Whom it harms, how it stands, and how it went before: the same for whatever somebody is asked. What follows each word
// stands in its slot, between.
defineProps<{ brief: Schemas['Brief']; undrawn?: boolean }>()
const now = useClock()

/** A line needs two moments; what was taken once is said in words. */
const moved = (t: Schemas['Trend']) => {
  const times = t.points.map((p) => Date.parse(p.at))
  return Math.max(...times) - Math.min(...times) > 1000
}
</script>

<template>
  <div class="side">
    <p v-if="brief.harm" class="harm">
      <span class="label">Harm</span> <strong>{{ brief.harm }}</strong>
    </p>
    <div v-for="t in brief.trends.slice(0, 2)" :key="t.reading" class="reading">
      <p><span class="label">Trend</span> {{ t.says }}</p>
      <TrendLine v-if="!undrawn && moved(t)" :trend="t" />
    </div>
    <dl class="follows">
      <slot />
      <template v-if="brief.history.says">
        <dt>Before</dt>
        <dd class="before">
          {{ brief.history.says }}
          <template v-if="brief.history.last"
            >Last <span :title="exact(brief.history.last.at)">{{ relative(brief.history.last.at, now) }}</span><template
              v-if="brief.history.last.incident"
              >, in
              <router-link :to="`/incidents/${brief.history.last.incident}`"
                >incident {{ brief.history.last.incident }}</router-link
              ></template
            >.</template
          >
        </dd>
      </template>
    </dl>
  </div>
</template>

<style scoped>
.label {
  font-size: 12px;
  font-weight: 650;
  margin-right: 6px;
}
.harm strong {
  font-weight: 600;
}
.follows {
  margin-top: 2px;
  line-height: 1.4;
}
.follows :slotted(dt),
.follows dt {
  font-size: 12px;
  font-weight: 650;
}
.follows :slotted(dd),
.follows dd {
  margin: 0 0 4px;
}
@media (max-width: 700px) {
  .follows .before::after {
    content: none !important;
  }
  .follows :slotted(dt),
  .follows dt {
    display: inline;
    padding-right: 6px;
  }
  .follows :slotted(dd),
  .follows dd {
    display: inline;
  }
  .follows :slotted(dd)::after,
  .follows dd::after {
    content: '\a';
    white-space: pre;
  }
}
</style>
