<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import { relative, useClock } from '../composables/clock'
import { useGates, useQuestions } from '../composables/data'
import { useSession } from '../composables/session'

const session = useSession()
const route = useRoute()
const now = useClock()
const gates = useGates()
const questions = useQuestions()
const items = computed(() =>
  [
    ...(gates.data.value ?? [])
      .filter((g) => g.may_decide)
      .map((g) => ({ id: g.id, what: 'Approve?', title: g.title, incident: g.incident, run: g.run, until: g.until })),
    ...(session.may('responder') ? (questions.data.value ?? []) : []).map((q) => ({
      id: q.id,
      what: 'Answer?',
      title: q.title || q.text,
      incident: q.incident,
      run: q.run,
      until: q.until,
    })),
  ].filter((i) => !(route.name === 'incident' && String(route.params.number) === String(i.incident))),
)
</script>

<template>
  <section v-if="items.length" class="bar" aria-label="Waits for you">
    <div v-for="i in items" :key="i.id" class="item">
      <strong><span aria-hidden="true">◐</span> {{ i.what }}</strong>
      <router-link :to="i.incident ? `/incidents/${i.incident}` : `/runs/${i.run}`">{{ i.title }}</router-link>
      <span v-if="i.incident" class="faint wide">incident {{ i.incident }}</span>
      <span class="faint num wide">ends {{ relative(i.until, now) }}</span>
    </div>
  </section>
</template>

<style scoped>
.bar {
  background: rgba(var(--v-theme-warning), 0.12);
  border-bottom: 1px solid rgb(var(--v-theme-warning));
  padding: 6px 20px;
}
.item {
  display: flex;
  gap: 14px;
  flex-wrap: wrap;
  max-width: 1200px;
  margin: 0 auto;
  padding: 2px 0;
  align-items: baseline;
}
strong {
  color: rgb(var(--v-theme-warning));
  white-space: nowrap;
}
a {
  font-weight: 550;
  overflow-wrap: anywhere;
}
</style>
