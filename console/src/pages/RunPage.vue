<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { FlowGraph } from '../components/lazy'
import { computed, nextTick, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import ByTarget from '../components/ByTarget.vue'
import GatePanel from '../components/GatePanel.vue'
import LiveOutput from '../components/LiveOutput.vue'
import QuestionPanel from '../components/QuestionPanel.vue'
import RecordList from '../components/RecordList.vue'
import StateShape from '../components/StateShape.vue'
import StateWord from '../components/StateWord.vue'
import StoryRows from '../components/StoryRows.vue'
import StoryText from '../components/StoryText.vue'
import { useAttempt } from '../composables/attempt'
import { clockTime, exact, span, useClock } from '../composables/clock'
import { useAgain, useCancel, useGates, useQuestions, useResumeRun, useRun, useRunGraph } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const id = computed(() => String(route.params.id))
const q = useRun(id)
const r = computed(() => q.data.value?.run)
const graph = useRunGraph(id)
const router = useRouter()
const session = useSession()
const now = useClock()
const again = useAgain()
const cancel = useCancel()
const resume = useResumeRun()
const asked = ref(false)
const because = ref('')
const { wrong, attempt } = useAttempt()
const gates = useGates()
const questions = useQuestions()
const tab = ref<'steps' | 'targets' | 'record' | 'log'>('steps')
const rows = computed(() => q.data.value?.rows ?? [])
const took = computed(() =>
  r.value ? span((r.value.ended_at ? Date.parse(r.value.ended_at) : now.value) - Date.parse(r.value.begun_at)) : '',
)
/** What is to be read of it first: what was changed, and who approved it. */
const changes = computed(() => rows.value.filter((x) => x.lane === 'change' && x.weight === 'tell'))
const approvals = computed(() => rows.value.filter((x) => x.word === 'approved'))
const touched = computed(() => [...new Set(changes.value.flatMap((c) => c.targets ?? []))])
const detail = (b: Record<string, unknown>) =>
  ['target', 'result', 'state', 'verdict', 'choice', 'by', 'because', 'text', 'error', 'unsure']
    .filter((k) => b[k] !== undefined && b[k] !== '')
    .map((k) => `${k}: ${String(b[k])}`)
    .join(' · ')

const picked = ref<number>()
async function pick(entry: number) {
  tab.value = 'record'
  picked.value = entry
  await nextTick()
  document.getElementById(`entry-${entry}`)?.scrollIntoView({ block: 'center' })
}
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
      <header class="run-head">
        <div>
          <p class="crumb">
            Run <span class="mono">{{ r.id }}</span> ·
            <router-link :to="`/runbooks/${r.runbook}`">{{ r.runbook }}</router-link><template v-if="r.incident">
              · <router-link :to="`/incidents/${r.incident}`">incident {{ r.incident }}</router-link></template
            >
          </p>
          <h1>{{ r.title || r.runbook }}</h1>
          <p class="crumb">
            started by {{ r.started_by }},
            <span :title="exact(r.begun_at)" class="num">{{ clockTime(r.begun_at) }}</span><template v-if="r.again_of">
              , with the inputs of <router-link :to="`/runs/${r.again_of}`">run {{ r.again_of }}</router-link></template
            >
          </p>
        </div>
        <div class="meta">
          <StateWord :state="r.waits_on && r.waits_on !== 'time' ? r.waits_on : r.state" />
          <span
            >{{ r.ended_at ? 'took' : 'for' }} <b class="num">{{ took }}</b></span
          >
          <template v-if="session.may('operator')">
            <ActButton v-if="r.waits_on === 'quarantined'" size="small" :loading="resume.isPending.value" @click="goOn"
              >Resume</ActButton
            >
            <v-btn v-if="!r.ended_at" size="small" @click="asked = !asked">Cancel this run</v-btn>
            <ActButton v-else size="small" :loading="again.isPending.value" @click="repeat">Run again</ActButton>
          </template>
        </div>
      </header>
      <v-dialog v-model="asked" max-width="520" aria-label="Cancel this run">
        <form class="sheet" @submit.prevent="stop(false)">
          <h2>Cancel this run?</h2>
          <p class="faint">
            What is under way on a host comes to its end. What was changed stays, unless it is undone.
          </p>
          <v-text-field v-model="because" label="Why, for the record" hide-details maxlength="1000" autofocus />
          <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
          <div class="acts">
            <v-btn type="submit" :disabled="cancel.isPending.value">Cancel it</v-btn>
            <v-btn :disabled="cancel.isPending.value" @click="stop(true)">Undo its changes, then cancel</v-btn>
            <v-btn variant="text" @click="asked = false">Back</v-btn>
          </div>
        </form>
      </v-dialog>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <dl class="sum">
        <div>
          <dt>Outcome</dt>
          <dd>{{ r.because || (r.ended_at ? r.state : 'still at work') }}</dd>
        </div>
        <div>
          <dt>Changed</dt>
          <dd v-if="changes.length">
            {{ changes.map((c) => c.title).join(', ')
            }}<template v-if="touched.length"> on {{ touched.slice(0, 6).join(', ') }}</template
            ><template v-if="touched.length > 6"> and {{ touched.length - 6 }} more</template>
          </dd>
          <dd v-else>{{ r.ended_at ? 'nothing by this run' : 'nothing by this run yet' }}</dd>
        </div>
        <div>
          <dt>Approved by</dt>
          <dd v-for="a in approvals" :key="a.first"><StoryText :text="a.says" /></dd>
          <dd v-if="!approvals.length">{{ changes.length ? 'no approval is recorded' : 'nothing to approve' }}</dd>
        </div>
        <div v-if="Object.keys(q.data.value.inputs).length">
          <dt>Inputs</dt>
          <dd class="mono">
            {{
              Object.entries(q.data.value.inputs)
                .map(([k, v]) => `${k}=${v}`)
                .join('  ')
            }}
          </dd>
        </div>
      </dl>
      <p v-if="r.awaits">
        It waits for <router-link :to="`/runs/${r.awaits}`">run {{ r.awaits }}</router-link
        >, which is at work on the same.
      </p>
      <GatePanel
        v-for="(g, n) in (gates.data.value ?? []).filter((x) => x.run === id)"
        :key="g.id"
        :gate="g"
        :first="!n"
      />
      <QuestionPanel v-for="x in (questions.data.value ?? []).filter((y) => y.run === id)" :key="x.id" :question="x" />
      <p v-for="g in q.data.value.going" :key="g.path" role="status">
        <StateShape name="waves" /> {{ g.title }}: <span class="num">{{ g.says }}</span>
      </p>
      <LiveOutput :runs="r.ended_at ? [] : [r.id]" />
      <div class="both">
        <div class="said">
          <v-tabs v-model="tab" density="compact" color="primary">
            <v-tab value="steps">Steps</v-tab>
            <v-tab value="targets">By target</v-tab>
            <v-tab value="record">Record {{ q.data.value.story.length }}</v-tab>
            <v-tab value="log">Log {{ q.data.value.events.length }}</v-tab>
          </v-tabs>
          <StoryRows v-if="tab === 'steps'" :rows="rows" @pick="pick" />
          <ByTarget v-else-if="tab === 'targets'" :entries="q.data.value.story" />
          <template v-else-if="tab === 'record'">
            <RecordList :entries="q.data.value.story" :picked="picked" />
            <p v-if="!q.data.value.story.length" class="empty">Nothing yet.</p>
          </template>
          <table v-else class="plain" aria-label="Log of the run">
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
        </div>
        <div>
          <h2>The path that it took</h2>
          <FlowGraph v-if="graph.data.value" :graph="graph.data.value" />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.run-head {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: end;
  gap: 4px 24px;
  margin-bottom: 10px;
}
.run-head > div {
  min-width: 0;
}
.crumb {
  font-size: 13px;
  color: rgba(var(--v-theme-on-surface), 0.76);
  overflow-wrap: anywhere;
}
.meta {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  align-items: center;
  font-size: 13px;
}
.sheet {
  display: grid;
  gap: 12px;
  background: rgb(var(--v-theme-surface));
  border-radius: 6px;
  padding: 20px 24px;
}
.sheet h2 {
  margin: 0;
}
.acts {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.sum {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(200px, 1fr));
  margin-bottom: 16px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 6px;
}
.sum > div {
  padding: 10px 16px 12px;
  min-width: 0;
}
.sum dt {
  font-size: 12px;
  font-weight: 650;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
.sum dd {
  margin: 0;
  overflow-wrap: anywhere;
}
.said {
  min-width: 0;
}
table.plain td {
  padding-top: 3px;
  padding-bottom: 3px;
  overflow-wrap: anywhere;
}
</style>
