<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { exact, relative, useClock } from '../composables/clock'
import { andList } from '../composables/list'
import { useEscalations, useMessages } from '../composables/data'
import StateShape from './StateShape.vue'

// Who was told of an incident, and who will be if nobody takes it.
const props = defineProps<{ incident: number; tickets: Schemas['Ticket'][] }>()
const now = useClock()
const messages = useMessages(() => props.incident)
const escalations = useEscalations(() => props.incident)
const next = computed(() => (escalations.data.value ?? []).filter((c) => c.later?.length))
const list = computed(() => messages.data.value?.items ?? [])
const others = (to: string) => to.startsWith('desk/') || to.startsWith('source/')
const people = computed(() => list.value.filter((m) => !others(m.to)))
const systems = computed(() => list.value.filter((m) => others(m.to)))
/** Whom it was told, each once, for the line that stands for all of it. */
const names = computed(() => [...new Set(people.value.map((m) => m.to))].join(', '))
const words: Record<string, string> = {
  sent: 'sent',
  queued: 'on its way',
  failed: 'did not arrive',
  dropped: 'not sent: it was over',
}
</script>

<template>
  <section v-if="list.length || next.length || tickets.length" class="told" aria-label="People told">
    <p v-for="c in next" :key="c.id" class="next">
      <StateShape name="pennant-hollow" /> Unclaimed; escalates to {{ andList(c.later![0]!.people) }}
      <span class="num" :title="exact(c.later![0]!.at)">{{ relative(c.later![0]!.at, now) }}</span><template
        v-if="c.missed"
        >. Not told: {{ c.missed }}</template
      >
    </p>
    <p v-if="tickets.length" class="tickets">
      <template v-for="t in tickets" :key="t.desk">
        <a v-if="t.link" :href="t.link" target="_blank" rel="noreferrer">ticket {{ t.number }}</a>
        <span v-else>ticket {{ t.number }}</span>
        <span class="faint"> at {{ t.desk }}, {{ t.state }}</span>
      </template>
    </p>
    <details>
      <summary>
        People told<span class="faint">{{ names || 'nobody yet' }}</span>
      </summary>
      <ul>
        <li v-for="m in [...people, ...systems]" :key="m.id">
          <details>
            <summary>
              <span>{{ m.to }}</span>
              <span class="faint">{{ words[m.state] ?? m.state }}</span>
              <span class="faint num" :title="exact(m.queued_at)">{{ relative(m.queued_at, now) }}</span>
            </summary>
            <p v-if="m.error" role="alert">{{ m.error }}</p>
            <pre>{{ m.text }}</pre>
          </details>
        </li>
      </ul>
    </details>
  </section>
</template>

<style scoped>
.next {
  border-left: 3px solid rgb(var(--v-theme-warning));
  padding: 2px 8px;
}
.tickets {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 6px;
}
.tickets a {
  display: inline-block;
  line-height: 26px;
}
ul {
  list-style: none;
  padding: 0;
}
summary {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  min-height: 24px;
  cursor: pointer;
}
pre {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  padding: 4px 0 8px 14px;
}
</style>
