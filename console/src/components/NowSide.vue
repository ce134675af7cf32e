<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, got } from '../api/client'
import { exact, relative, span, useClock } from '../composables/clock'
import { useObjectives, useOnCall, useStatus } from '../composables/data'
import { burnSays, standing } from '../composables/objective'
import StateShape from './StateShape.vue'

/** Beside what is open: who is on call, what is halted, and what needs a look. */
defineProps<{ me: string }>()
const now = useClock()
const onCall = useOnCall()
const status = useStatus()
const objectives = useObjectives()
const failed = useQuery({
  queryKey: ['messages', 'failed'],
  queryFn: () => got(api.GET('/api/v1/messages', { params: { query: { state: 'failed', limit: 4 } } })),
  refetchInterval: 60_000,
})
const missed = computed(() =>
  (objectives.data.value ?? [])
    .map((o) => ({ o, s: standing(o) }))
    .filter((x) => x.s.rank < 4)
    .sort((a, b) => a.s.rank - b.s.rank)
    .slice(0, 5),
)
const needs = computed(() => missed.value.length + (failed.data.value?.items.length ?? 0))
</script>

<template>
  <aside class="side" aria-label="On call, halts, and what needs a look">
    <section id="on-call" aria-label="On call now">
      <h2>On call now</h2>
      <ul class="lst">
        <li v-for="t in onCall.data.value ?? []" :key="t.team">
          <span
            ><b>{{ t.title || t.team }}</b>
            <span v-if="t.duties[0]" class="faint" :title="exact(t.duties[0].until)"
              >for {{ span(Date.parse(t.duties[0].until) - now) }}</span
            ></span
          >
          <span>
            <b v-if="t.duties[0]?.person">{{ t.duties[0].person === me ? 'you' : t.duties[0].person }}</b>
            <b v-else class="amber"><StateShape name="pennant" /> nobody</b>
            <span v-if="t.duties[0]?.instead_of" class="faint">for {{ t.duties[0].instead_of }}</span>
            <span v-if="t.duties[1]" class="faint">then {{ t.duties[1].person || 'nobody' }}</span>
            <span v-else-if="t.duties[0]" class="tag">no secondary</span>
            <span v-if="t.holes[0]" class="amber" :title="exact(t.holes[0].from)"
              >nobody {{ relative(t.holes[0].from, now) }}</span
            >
            <span v-if="t.twice[0]" class="amber" :title="exact(t.twice[0].from)"
              >{{ t.twice[0].person }} alone in two lines {{ relative(t.twice[0].from, now) }}</span
            >
          </span>
        </li>
      </ul>
      <p v-if="onCall.isSuccess.value && !onCall.data.value?.length" class="faint">
        No team has a rota yet. A team is a document: <router-link to="/documents">Documents</router-link>.
      </p>
    </section>
    <section v-if="status.data.value?.halted" aria-label="Halted">
      <h2>Halted</h2>
      <p class="halted"><b>All changes</b>, by {{ status.data.value.halted_by }}. Looks go on.</p>
    </section>
    <section v-if="needs" aria-label="Needs a look">
      <h2>Needs a look</h2>
      <ul class="lst">
        <li v-for="{ o, s } in missed" :key="o.name">
          <span
            ><router-link :to="`/services/${o.service}`">{{ o.title || o.name }}</router-link></span
          ><span :class="s.bad ? 'red' : 'amber'">{{ s.rank === 2 ? burnSays(o) : s.word }}</span>
        </li>
        <li v-for="m in failed.data.value?.items ?? []" :key="m.id">
          <span>{{ m.to }}: did not arrive</span
          ><span class="num faint" :title="m.error">{{ relative(m.queued_at, now) }}</span>
        </li>
      </ul>
    </section>
  </aside>
</template>

<style scoped>
.side h2 {
  font-size: 14px;
  line-height: 20px;
  margin: 24px 0 4px;
}
.lst li > span > * {
  display: block;
}
.lst li > span > a {
  display: inline;
}
.amber {
  color: rgb(var(--v-theme-warning));
}
.red {
  color: rgb(var(--v-theme-error));
}
.tag {
  font-size: 12px;
  color: rgb(var(--v-theme-warning));
}
.halted {
  padding: 10px 12px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.2);
  border-radius: 6px;
  background: repeating-linear-gradient(
    -45deg,
    rgba(var(--v-theme-on-surface), 0.03) 0 6px,
    rgba(var(--v-theme-on-surface), 0.1) 6px 9px
  );
}
</style>
