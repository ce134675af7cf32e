<script setup lang="ts">
import { computed } from 'vue'

import IncidentRows from '../components/IncidentRows.vue'
import OnCallNow from '../components/OnCallNow.vue'
import RunRows from '../components/RunRows.vue'
import StateWord from '../components/StateWord.vue'
import { relative, useClock } from '../composables/clock'
import { useEscalations, useGates, useIncidents, useOnCall, useQuestions, useRuns } from '../composables/data'
import { useSession } from '../composables/session'

const session = useSession()
const now = useClock()
const gates = useGates()
const questions = useQuestions()
const open = useIncidents('open')
const closed = useIncidents('closed', 6)
const runs = useRuns(true)
const onCall = useOnCall()
const escalations = useEscalations()
const others = computed(() => (gates.data.value ?? []).filter((g) => !g.may_decide))
const waits = computed(
  () =>
    (gates.data.value ?? []).filter((g) => g.may_decide).length +
    (session.may('responder') ? (questions.data.value ?? []).length : 0),
)
</script>

<template>
  <div class="page">
    <h1>Now</h1>
    <p class="faint">{{ waits ? `${waits} waiting for you, above.` : 'Nothing waits for you.' }}</p>
    <h2>Open incidents</h2>
    <IncidentRows v-if="open.data.value?.items.length" :items="open.data.value.items" label="Open incidents" />
    <p v-else-if="open.isSuccess.value" class="empty">
      No incident is open. A new one opens here by itself when an alert comes in.
    </p>
    <p v-if="open.error.value" role="alert">{{ open.error.value.message }}</p>
    <template v-if="escalations.data.value?.length">
      <h2>Unclaimed</h2>
      <p v-for="c in escalations.data.value" :key="c.id" class="empty">
        <StateWord state="person" />&ensp;
        <router-link v-if="c.incident" :to="`/incidents/${c.incident}`">Incident {{ c.incident }}</router-link>
        <template v-if="c.next_at">, escalates {{ relative(c.next_at, now) }}</template
        >: {{ c.text }}<template v-if="c.missed"> Not told: {{ c.missed }}.</template>
      </p>
    </template>
    <template v-if="others.length">
      <h2>Waits for others</h2>
      <p v-for="g in others" :key="g.id" class="empty">
        <StateWord state="approval" /> <router-link :to="`/incidents/${g.incident}`">{{ g.title }}</router-link> from
        {{ g.ask }}, expires {{ relative(g.until, now) }}
      </p>
    </template>
    <h2>Running runbooks</h2>
    <RunRows v-if="runs.data.value?.items.length" :items="runs.data.value.items" label="Running runbooks" />
    <p v-else-if="runs.isSuccess.value" class="empty">
      No runbook runs. Start one from <router-link to="/runbooks">Runbooks</router-link>.
    </p>
    <template v-if="onCall.data.value?.length">
      <h2>On call</h2>
      <OnCallNow :teams="onCall.data.value" />
    </template>
    <template v-if="closed.data.value?.items.length">
      <h2>Closed lately</h2>
      <IncidentRows :items="closed.data.value.items" label="Incidents closed lately" />
    </template>
  </div>
</template>
