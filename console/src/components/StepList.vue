<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, span, useClock } from '../composables/clock'
import { rowLook } from '../composables/story'
import StateShape from './StateShape.vue'
import StoryText from './StoryText.vue'

/** A runbook at work as a list of its steps: what each found or did, and the one at work lit. */
const props = defineProps<{ run: Schemas['Run']; rows: Schemas['StoryRow'][] }>()
const now = useClock()
const lanes = ['evidence', 'decision', 'change', 'proof', 'wait']
const most = 8
const steps = computed(() =>
  props.rows.filter((r) => r.run === props.run.id && lanes.includes(r.lane) && r.weight !== 'quiet'),
)
const shown = computed(() => steps.value.slice(-most))
const works = (r: Schemas['StoryRow']) => !props.run.ended_at && (r.state === 'going' || r.state === 'waiting')
</script>

<template>
  <section class="steps" :aria-label="`Runbook ${run.title || run.runbook}`">
    <header>
      <h2>{{ run.title || run.runbook }}</h2>
      <span class="faint" :title="exact(run.begun_at)">started {{ clockTime(run.begun_at) }}</span>
      <router-link :to="`/runs/${run.id}`">Open run</router-link>
    </header>
    <ol>
      <li v-if="steps.length > most" class="faint">{{ steps.length - most }} steps before</li>
      <li v-for="r in shown" :key="r.first" :class="{ on: works(r) }">
        <StateShape
          :name="rowLook[r.state].shape"
          :style="rowLook[r.state].color ? { color: `rgb(var(--v-theme-${rowLook[r.state].color}))` } : {}"
        />
        <div>
          <strong>{{ r.title || r.word }}</strong>
          <span class="word">{{ works(r) ? `${r.word}, ${span(now - Date.parse(r.at))}` : r.word }}</span>
          <p v-if="r.says.length" class="says"><StoryText :text="r.says" /></p>
        </div>
        <span class="at num faint">{{ clockTime(r.at) }}</span>
      </li>
      <li v-if="!steps.length" class="faint">It starts.</li>
    </ol>
  </section>
</template>

<style scoped>
.steps {
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 6px;
}
header {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  align-items: baseline;
  padding: 10px 16px;
}
header h2 {
  margin: 0;
  flex: 1;
}
ol {
  list-style: none;
  padding: 0;
}
li {
  display: grid;
  grid-template-columns: 20px minmax(0, 1fr) auto;
  gap: 0 12px;
  padding: 8px 16px;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  align-items: start;
}
li.faint {
  display: block;
}
li :deep(.shape) {
  margin-top: 3px;
}
.on {
  background: rgba(var(--v-theme-info), 0.1);
  box-shadow: inset 4px 0 0 rgb(var(--v-theme-info));
  padding-top: 12px;
  padding-bottom: 12px;
}
.word {
  float: right;
  font-size: 13px;
  font-weight: 600;
}
.on .word {
  color: rgb(var(--v-theme-info));
}
.says {
  font-size: 13px;
  line-height: 18px;
  color: rgba(var(--v-theme-on-surface), 0.78);
  overflow-wrap: anywhere;
}
.at {
  font-size: 12px;
}
</style>
