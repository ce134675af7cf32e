<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { coursePoints, useCourses, useServiceSuggestions, type Stretch } from '../composables/data'
import TimeChart from './TimeChart.vue'

// One reading of a service over time, all targets on one scale.
const props = defineProps<{
  service: string
  name: string
  unit: string
  stretch: Stretch
  marks: Schemas['ServiceMark'][]
}>()
const q = useCourses(
  () => props.service,
  props.name,
  () => props.stretch,
)
const asked = ref(false)
const help = useServiceSuggestions(() => props.service, props.name, asked)
const lines = computed(() =>
  (q.data.value?.courses ?? []).map((c) => ({ name: c.reading.target ?? '', points: c.points })),
)
const known = computed(() => lines.value.some((l) => l.points.length))
const says = computed(() => {
  const last = (q.data.value?.courses ?? []).map((c) => c.points.at(-1)?.value).filter((v) => v != null)
  if (!last.length) return `${props.name}: ${lines.value.length} targets, no numbers`
  return `${props.name}: ${lines.value.length} targets, from ${Math.min(...last)} to ${Math.max(...last)} ${props.unit} now`
})
</script>

<template>
  <div>
    <div class="name">
      <span class="mono">{{ name }}</span> <span class="faint">{{ unit }}</span>
      <button class="ask" :aria-expanded="asked" @click="asked = !asked">suggested runbooks</button>
    </div>
    <ul v-if="asked && help.data.value" class="help" :aria-label="`Suggested runbooks for ${name}`">
      <li v-for="s in help.data.value.runbooks.slice(0, 3)" :key="s.runbook">
        <router-link :to="`/runbooks/${s.runbook}`">{{ s.title }}</router-link>
        <span class="faint">&nbsp;{{ s.reasons.join('; ') }}</span>
      </li>
      <li v-if="!help.data.value.runbooks.length" class="faint">No runbook reads it, or is for this service.</li>
    </ul>
    <TimeChart
      v-if="q.data.value && known"
      :lines="lines"
      :from="Date.parse(q.data.value.from)"
      :until="Date.parse(q.data.value.until)"
      :unit="unit"
      :marks="marks"
      :points="coursePoints"
      :says="says"
    />
    <p v-else-if="q.isSuccess.value" class="faint">Nothing was read in this time.</p>
    <p v-if="q.error.value" role="alert" class="wrong">{{ q.error.value.message }}</p>
  </div>
</template>

<style scoped>
.name {
  font-size: 13px;
}
.ask {
  margin-left: 10px;
  padding: 2px 4px;
  background: none;
  border: 0;
  font-size: 13px;
  text-decoration: underline;
  cursor: pointer;
  color: inherit;
}
.help {
  list-style: none;
  padding: 0;
  font-size: 13px;
}
</style>
