<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, span } from '../composables/clock'
import { isAttempt, readings } from '../composables/record'
import OutputFold from './OutputFold.vue'

/** What a run did and found on each target, target by target. */
const props = defineProps<{ entries: Schemas['Entry'][] }>()
type Attempt = Schemas['AttemptContent']
const wanted = ref('')
const targets = computed(() => {
  const by = new Map<string, { entry: Schemas['Entry']; content: Attempt }[]>()
  for (const e of props.entries) {
    if (!isAttempt(e)) continue
    const target = e.content.target ?? ''
    by.set(target, [...(by.get(target) ?? []), { entry: e, content: e.content }])
  }
  const words = wanted.value.trim().toLowerCase()
  return [...by]
    .filter(([t]) => t.toLowerCase().includes(words))
    .sort(([a], [b]) => a.localeCompare(b, 'en', { numeric: true }))
})
const exit = (c: Attempt) => (c.exit === undefined ? c.state : `${c.exit >= 200 ? 'status' : 'exit'} ${c.exit}`)
</script>

<template>
  <v-text-field v-model="wanted" class="find" label="Find a target" density="compact" hide-details clearable />
  <section v-for="[target, lines] in targets" :key="target" class="target" :aria-label="target">
    <h3>{{ target || 'The host of the service itself' }}</h3>
    <ol>
      <li v-for="{ entry: e, content: c } in lines" :key="e.seq">
        <time :datetime="e.at" :title="exact(e.at)" class="num faint">{{ clockTime(e.at) }}</time>
        <span class="word">{{ e.word }}</span>
        <div>
          <strong>{{ e.title }}</strong>
          <span v-for="r in readings(c)" :key="r.name" class="reading"
            ><span class="faint">{{ r.name }}</span> <span class="mono">{{ r.text }}</span></span
          >
          <span class="faint num">{{ exit(c) }}, {{ span(c.took_ms ?? 0) }}</span>
          <p v-if="c.error" class="wrong">{{ c.error }}</p>
          <OutputFold :shown="c.shown ?? ''" :output="c.output" :stderr="c.stderr" />
        </div>
      </li>
    </ol>
  </section>
  <p v-if="!targets.length" class="empty">
    {{ wanted ? 'No target is called like that.' : 'Nothing was looked at or changed on a target yet.' }}
  </p>
</template>

<style scoped>
.find {
  max-width: 320px;
  margin-bottom: 12px;
}
ol {
  list-style: none;
  padding: 0;
  margin-bottom: 16px;
}
li {
  display: grid;
  grid-template-columns: 72px 80px minmax(0, 1fr);
  gap: 0 12px;
  padding: 5px 0;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  font-size: 13px;
}
.word {
  font-weight: 600;
}
.reading {
  margin: 0 8px;
}
@media (max-width: 700px) {
  li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
