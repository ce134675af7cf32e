<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { misses, short, worstFirst, type Limit, type Mark } from '../composables/chart'
import { relative, useClock } from '../composables/clock'
import { useCourses, useServiceSuggestions, type Stretch } from '../composables/data'
import { PlotChart } from './lazy'

/** One reading of a service over time, all its targets on one scale, the worst seen first. */
const props = defineProps<{
  service: string
  name: string
  unit: string
  stretch: Stretch
  /** From when on it is drawn, where that is later than the stretch begins. */
  zoom?: number
  marks: Mark[]
  limit?: Limit
}>()
/** When something was first read of it in the stretch. */
const emit = defineEmits<{ begins: [at: number] }>()
const now = useClock()
const q = useCourses(
  () => props.service,
  props.name,
  () => props.stretch,
)
const asked = ref(false)
const help = useServiceSuggestions(() => props.service, props.name, asked)
const courses = computed(() => q.data.value?.courses ?? [])
const better = computed(() => courses.value[0]?.reading.good)
const lines = computed(() =>
  worstFirst(
    courses.value.map((c) => ({ name: c.reading.target ?? '', points: c.points })),
    props.limit,
    better.value,
  ).map((l, i) => ({ ...l, strong: i === 0 })),
)
const known = computed(() => lines.value.some((l) => l.points.length))
const last = computed(() => courses.value.flatMap((c) => c.reading.value ?? []))
const newest = computed(() =>
  courses.value
    .map((c) => c.reading.at)
    .sort()
    .at(-1),
)
const missing = computed(() => last.value.filter((v) => misses(v, props.limit)).length)
const says = computed(() => {
  const of = `${lines.value.length} ${lines.value.length === 1 ? 'target' : 'targets'}`
  if (!last.value.length) return `${of}, no numbers`
  const [low, high] = [Math.min(...last.value), Math.max(...last.value)]
  const range = low === high ? short(low) : `${short(low)} to ${short(high)}`
  return `${of}, ${range}${props.unit ? ` ${props.unit}` : ''}`
})
watch(
  courses,
  (list) => {
    const first = Math.min(...list.flatMap((c) => c.points.slice(0, 1).map((p) => Date.parse(p.at))))
    if (Number.isFinite(first)) emit('begins', first)
  },
  { immediate: true },
)
</script>

<template>
  <section class="reading" :aria-label="name">
    <div class="name">
      <h3>{{ name }}</h3>
      <span class="faint num"
        >{{ says }}<template v-if="newest">, newest {{ relative(newest, now) }}</template></span
      >
      <strong v-if="missing" class="wrong num">{{ missing }} beyond the limit</strong>
      <button type="button" class="ask" :aria-expanded="asked" @click="asked = !asked">Suggested runbooks</button>
    </div>
    <ul v-if="asked && help.data.value" class="help" :aria-label="`Suggested runbooks for ${name}`">
      <li v-for="s in help.data.value.runbooks.slice(0, 3)" :key="s.runbook">
        <router-link :to="`/runbooks/${s.runbook}`">{{ s.title }}</router-link>
        <span class="faint">&nbsp;{{ s.reasons.join('; ') }}</span>
      </li>
      <li v-if="!help.data.value.runbooks.length" class="faint">No runbook reads it, or is for this service.</li>
    </ul>
    <PlotChart
      v-if="q.data.value && known"
      :lines="lines"
      :from="Math.max(Date.parse(q.data.value.from), zoom ?? 0)"
      :until="Date.parse(q.data.value.until)"
      :unit="unit"
      :limit="limit"
      :marks="marks"
      :says="`${name}: ${says}`"
    />
    <p v-else-if="q.isSuccess.value" class="faint">Nothing was read in this time.</p>
    <p v-if="q.error.value" role="alert" class="wrong">{{ q.error.value.message }}</p>
  </section>
</template>

<style scoped>
.reading {
  margin-top: 12px;
}
.name {
  display: flex;
  flex-wrap: wrap;
  align-items: baseline;
  gap: 0 10px;
  font-size: 12.5px;
}
h3 {
  font-size: 15px;
  font-weight: 650;
  margin: 0;
}
.ask {
  margin-left: auto;
  min-height: 24px;
  background: none;
  border: 0;
  font: inherit;
  cursor: pointer;
  color: rgb(var(--v-theme-primary));
}
.help {
  list-style: none;
  padding: 0;
  font-size: 13px;
}
</style>
