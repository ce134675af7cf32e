<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import FlowGraph from '../components/FlowGraph.vue'
import GatePanel from '../components/GatePanel.vue'
import LiveOutput from '../components/LiveOutput.vue'
import QuestionPanel from '../components/QuestionPanel.vue'
import RecordList from '../components/RecordList.vue'
import StateWord from '../components/StateWord.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { useAttempt } from '../composables/attempt'
import { clockTime, exact } from '../composables/clock'
import { useAgain, useCancel, useResumeRun, useGates, useQuestions, useRun, useRunGraph } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const id = computed(() => String(route.params.id))
const q = useRun(id)
const r = computed(() => q.data.value?.run)
const graph = useRunGraph(id)
const router = useRouter()
const session = useSession()
const again = useAgain()
const cancel = useCancel()
const resume = useResumeRun()
const asked = ref(false)
const because = ref('')
const { wrong, attempt } = useAttempt()
const gates = useGates()
const questions = useQuestions()
const detail = (b: Record<string, unknown>) =>
  ['target', 'result', 'state', 'verdict', 'choice', 'by', 'because', 'text', 'error', 'unsure']
    .filter((k) => b[k] !== undefined && b[k] !== '')
    .map((k) => `${k}: ${String(b[k])}`)
    .join(' · ')

const stop = (undo: boolean) =>
  attempt(
    () => cancel.mutateAsync({ id: id.value, because: because.value.trim(), undo }),
    () => (asked.value = false),
  )
const goOn = () => attempt(() => resume.mutateAsync(id.value))
const repeat = () => attempt(async () => router.push(`/runs/${(await again.mutateAsync(id.value)).id}`))
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="r && q.data.value">
      <p class="faint">
        Run <span class="mono">{{ r.id }}</span>
      </p>
      <h1>{{ r.title || r.runbook }}</h1>
      <p class="facts">
        <StateWord :state="r.waits_on && r.waits_on !== 'time' ? r.waits_on : r.state" />
        <router-link :to="`/runbooks/${r.runbook}`">{{ r.runbook }}</router-link>
        <span class="faint">started by {{ r.started_by }}, <TimeAgo :at="r.begun_at" /></span>
        <router-link v-if="r.incident" :to="`/incidents/${r.incident}`">incident {{ r.incident }}</router-link>
      </p>
      <p v-if="r.because">{{ r.because }}</p>
      <p v-if="r.awaits">
        It waits for <router-link :to="`/runs/${r.awaits}`">run {{ r.awaits }}</router-link
        >, which is at work on the same.
      </p>
      <p v-if="r.again_of">
        Started with the inputs of <router-link :to="`/runs/${r.again_of}`">run {{ r.again_of }}</router-link
        >.
      </p>
      <div v-if="session.may('operator')" class="acts">
        <v-btn v-if="r.waits_on === 'quarantined'" size="small" :loading="resume.isPending.value" @click="goOn"
          >Resume</v-btn
        >
        <v-btn v-if="!r.ended_at" size="small" @click="asked = !asked">Cancel this run</v-btn>
        <v-btn v-else size="small" :loading="again.isPending.value" @click="repeat">Run again</v-btn>
      </div>
      <form v-if="asked && !r.ended_at" class="cancel" @submit.prevent="stop(false)">
        <v-text-field v-model="because" label="Why? For the record" hide-details maxlength="1000" />
        <v-btn type="submit" :disabled="cancel.isPending.value">Cancel it</v-btn>
        <v-btn :disabled="cancel.isPending.value" @click="stop(true)">Take its changes back, then cancel</v-btn>
      </form>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <p class="mono faint">
        {{
          Object.entries(q.data.value.inputs)
            .map(([k, v]) => `${k}=${v}`)
            .join('  ')
        }}
      </p>
      <GatePanel v-for="g in (gates.data.value ?? []).filter((x) => x.run === id)" :key="g.id" :gate="g" />
      <QuestionPanel v-for="x in (questions.data.value ?? []).filter((y) => y.run === id)" :key="x.id" :question="x" />
      <p v-for="g in q.data.value.going" :key="g.path" role="status">
        <span aria-hidden="true">▸</span> {{ g.title }}: <span class="num">{{ g.says }}</span>
      </p>
      <LiveOutput :runs="r.ended_at ? [] : [r.id]" />
      <h2>The path that it took</h2>
      <FlowGraph v-if="graph.data.value" :graph="graph.data.value" />
      <h2>What it did</h2>
      <RecordList :entries="q.data.value.story" />
      <p v-if="!q.data.value.story.length" class="empty">Nothing yet.</p>
      <details class="log">
        <summary>Log: {{ q.data.value.events.length }} events as the run wrote them</summary>
        <table class="plain" aria-label="Log of the run">
          <thead>
            <tr>
              <th>No.</th>
              <th>Time</th>
              <th>Event</th>
              <th>Step</th>
              <th>What</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="e in q.data.value.events" :key="e.seq">
              <td class="num faint">{{ e.seq }}</td>
              <td class="mono faint">
                <time :datetime="e.at" :title="exact(e.at)">{{ clockTime(e.at) }}</time>
              </td>
              <td class="mono">{{ e.kind }}</td>
              <td class="mono">{{ e.path }}</td>
              <td>{{ detail(e.body) }}</td>
            </tr>
          </tbody>
        </table>
      </details>
    </template>
  </div>
</template>

<style scoped>
.acts {
  margin: 10px 0;
}
.cancel {
  display: flex;
  gap: 12px;
  align-items: center;
  flex-wrap: wrap;
  margin: 10px 0;
}
.cancel > :first-child {
  min-width: 260px;
}
.log {
  margin-top: 24px;
}
.log summary {
  cursor: pointer;
  margin-bottom: 8px;
}
.facts {
  display: flex;
  gap: 16px;
  flex-wrap: wrap;
  margin: 4px 0;
  align-items: baseline;
}
table.plain td {
  padding-top: 3px;
  padding-bottom: 3px;
  overflow-wrap: anywhere;
}
</style>
