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
// What is decided on this page stays in sight: the next one is named, the others are counted.
const next = computed(() => items.value[0])
const more = computed(() => items.value.length - 1)
</script>

<template>
  <section v-if="next" class="bar" aria-label="Waits for you">
    <div class="item">
      <strong><span aria-hidden="true">◐</span> {{ next.what }}</strong>
      <router-link class="what" :to="next.incident ? `/incidents/${next.incident}` : `/runs/${next.run}`">{{
        next.title
      }}</router-link>
      <span v-if="next.incident" class="faint wide">incident {{ next.incident }}</span>
      <span class="faint num wide">ends {{ relative(next.until, now) }}</span>
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
