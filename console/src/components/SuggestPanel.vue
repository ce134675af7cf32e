<script setup lang="ts">
import ActButton from './ActButton.vue'
import { useRouter } from 'vue-router'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { useStart, useSuggestions } from '../composables/data'
import { useSession } from '../composables/session'
import StateWord from './StateWord.vue'
import TimeAgo from './TimeAgo.vue'

// What may help while no runbook works on an incident: runbooks with their reasons, and what ended its like.
const props = defineProps<{ number: number }>()
const router = useRouter()
const session = useSession()
const q = useSuggestions(() => props.number)
const start = useStart()
const { wrong, attempt } = useAttempt()
const does = (n: number) => (n === 0 ? 'only looks' : n === 1 ? '1 change' : `${n} changes`)

const begin = (s: Schemas['Suggestion']) =>
  attempt(async () => {
    const r = await start.mutateAsync({ runbook: s.runbook, inputs: s.inputs, incident: props.number })
    await router.push(`/runs/${r.id}`)
  })
</script>

<template>
  <section v-if="q.data.value" aria-label="Suggested runbooks" class="suggest">
    <h2>Suggested runbooks</h2>
    <p v-if="!q.data.value.runbooks.length" class="faint">
      No runbook is for this service, and none starts on such alerts.
      <router-link to="/library">The library</router-link>
      may have one.
    </p>
    <ul class="list">
      <li v-for="s in q.data.value.runbooks.slice(0, 4)" :key="s.runbook">
        <div>
          <router-link :to="`/runbooks/${s.runbook}`">{{ s.title }}</router-link>
          <span class="faint">&nbsp;· {{ does(s.changes) }}</span>
          <div class="faint">{{ s.reasons.join('; ') }}</div>
        </div>
        <template v-if="session.may('operator')">
          <ActButton v-if="!s.missing.length" size="small" :loading="start.isPending.value" @click="begin(s)"
            >Start</ActButton
          >
          <router-link v-else :to="`/runbooks/${s.runbook}`">needs {{ s.missing.join(', ') }}</router-link>
        </template>
      </li>
    </ul>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
    <template v-if="q.data.value.alike.length">
      <h3>Like it before</h3>
      <ul class="list">
        <li v-for="x in q.data.value.alike" :key="x.number">
          <div>
            <router-link :to="`/incidents/${x.number}`">{{ x.number }} {{ x.title }}</router-link>
            <div class="faint">
              <StateWord :state="x.outcome" /> <TimeAgo :at="x.at" />{{ x.runbook ? `, by ${x.runbook}` : '' }}:
              {{ x.because }}
            </div>
          </div>
        </li>
      </ul>
    </template>
  </section>
</template>

<style scoped>
.suggest {
  margin: 12px 0;
}
.list {
  list-style: none;
  padding: 0;
}
.list li {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  justify-content: space-between;
  align-items: center;
  max-width: 860px;
  padding: 6px 0;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
h3 {
  font-size: 14px;
  margin-top: 10px;
}
</style>
