<script setup lang="ts">
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import GatePanel from '../components/GatePanel.vue'
import LiveOutput from '../components/LiveOutput.vue'
import QuestionPanel from '../components/QuestionPanel.vue'
import StateWord from '../components/StateWord.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { clockTime, exact } from '../composables/clock'
import { useGates, useQuestions, useRun } from '../composables/data'

const route = useRoute()
const id = computed(() => String(route.params.id))
const q = useRun(id)
const r = computed(() => q.data.value?.run)
const gates = useGates()
const questions = useQuestions()
const detail = (b: Record<string, unknown>) =>
  ['target', 'result', 'state', 'verdict', 'choice', 'by', 'because', 'text', 'error', 'unsure'].filter((k) => b[k] !== undefined && b[k] !== '').map((k) => `${k}: ${String(b[k])}`).join(' · ')
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="r && q.data.value">
      <p class="faint">Run <span class="mono">{{ r.id }}</span></p>
      <h1>{{ r.title || r.runbook }}</h1>
      <p class="facts">
        <StateWord :state="r.waits_on && r.waits_on !== 'time' ? r.waits_on : r.state" />
        <router-link :to="`/runbooks/${r.runbook}`">{{ r.runbook }}</router-link>
        <span class="faint">started by {{ r.started_by }}, <TimeAgo :at="r.begun_at" /></span>
        <router-link v-if="r.incident" :to="`/incidents/${r.incident}`">incident {{ r.incident }}</router-link>
      </p>
      <p v-if="r.because">{{ r.because }}</p>
      <p class="mono faint">{{ Object.entries(q.data.value.inputs).map(([k, v]) => `${k}=${v}`).join('  ') }}</p>
      <GatePanel v-for="g in (gates.data.value ?? []).filter((x) => x.run === id)" :key="g.id" :gate="g" />
      <QuestionPanel v-for="x in (questions.data.value ?? []).filter((y) => y.run === id)" :key="x.id" :question="x" />
      <LiveOutput :runs="r.ended_at ? [] : [r.id]" />
      <h2>Log</h2>
      <table class="plain" aria-label="Log of the run">
        <thead><tr><th>No.</th><th>Time</th><th>Event</th><th>Step</th><th>What</th></tr></thead>
        <tbody>
          <tr v-for="e in q.data.value.events" :key="e.seq">
            <td class="num faint">{{ e.seq }}</td>
            <td class="mono faint"><time :datetime="e.at" :title="exact(e.at)">{{ clockTime(e.at) }}</time></td>
            <td class="mono">{{ e.kind }}</td>
            <td class="mono">{{ e.path }}</td>
            <td>{{ detail(e.body) }}</td>
          </tr>
        </tbody>
      </table>
    </template>
  </div>
</template>

<style scoped>
.facts { display: flex; gap: 16px; flex-wrap: wrap; margin: 4px 0; align-items: baseline; }
table.plain td { padding-top: 3px; padding-bottom: 3px; overflow-wrap: anywhere; }
</style>
