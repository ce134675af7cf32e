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
  ]
    .filter((i) => !(route.name === 'incident' && String(route.params.number) === String(i.incident)))
    .sort((a, b) => a.until.localeCompare(b.until)),
)
// Now lists all of it. On every other page what is decided there stays in sight: the next one is named, the others are
// counted.
const shown = computed(() => (route.name === 'now' ? items.value : items.value.slice(0, 1)))
const more = computed(() => items.value.length - shown.value.length)
</script>

<template>
  <section v-if="shown.length" class="bar" aria-label="Waits for you">
    <div v-for="i in shown" :key="i.id" class="item">
      <strong><span aria-hidden="true">◐</span> {{ i.what }}</strong>
      <router-link class="what" :to="i.incident ? `/incidents/${i.incident}` : `/runs/${i.run}`">{{
        i.title
      }}</router-link>
      <span v-if="i.incident" class="faint wide">incident {{ i.incident }}</span>
      <span class="faint num wide">expires {{ relative(i.until, now) }}</span>
      <router-link v-if="more > 0" to="/" class="more">and {{ more }} more</router-link>
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
  max-width: 1200px;
  margin: 0 auto;
  padding: 2px 0;
  align-items: baseline;
}
strong,
.faint,
.more {
  white-space: nowrap;
}
strong {
  color: rgb(var(--v-theme-warning));
}
a {
  font-weight: 550;
}
/* One line, whatever it is called: the page below has the room. */
.what {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
