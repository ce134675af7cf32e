<script setup lang="ts">
import { computed, nextTick, ref } from 'vue'
import { useRoute } from 'vue-router'

import type { Schemas } from '../api/client'
import GatePanel from '../components/GatePanel.vue'
import HandOverPanel from '../components/HandOverPanel.vue'
import IncidentAround from '../components/IncidentAround.vue'
import IncidentStrip from '../components/IncidentStrip.vue'
import IncidentTiles from '../components/IncidentTiles.vue'
import LiveOutput from '../components/LiveOutput.vue'
import PeopleTold from '../components/PeopleTold.vue'
import QuestionPanel from '../components/QuestionPanel.vue'
import RecordList from '../components/RecordList.vue'
import StateWord from '../components/StateWord.vue'
import StoryRows from '../components/StoryRows.vue'
import SuggestPanel from '../components/SuggestPanel.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { useAttempt } from '../composables/attempt'
import { span, useClock, zoneName } from '../composables/clock'
import {
  useAround,
  useClose,
  useHold,
  useIncident,
  useLookAgain,
  useNote,
  useRecord,
  useStory,
} from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const number = computed(() => Number(route.params.number))
const session = useSession()
const now = useClock()
const q = useIncident(number)
const i = computed(() => q.data.value?.incident)
const running = computed(() => (q.data.value?.runs ?? []).filter((r) => !r.ended_at))
const took = computed(() =>
  i.value ? span((i.value.closed_at ? Date.parse(i.value.closed_at) : now.value) - Date.parse(i.value.opened_at)) : '',
)
const { wrong, attempt } = useAttempt()
const alert = computed(() => q.data.value?.alerts[0])

const hold = useHold(number)
const take = () => attempt(() => hold.mutateAsync({}))

const around = useAround(number)
const before = (n: number) => (n === 1 ? 'it was there once before' : `it was there ${n} times before`)

const tab = ref<'story' | 'record' | 'around' | 'messages'>('story')
const told = useStory(number)
const record = useRecord(number, () => tab.value === 'record')

const picked = ref<number>()
async function pick(entry: number) {
  tab.value = 'record'
  if (!record.data.value?.some((e) => e.seq >= entry)) await record.refetch()
  picked.value = entry
  await nextTick()
  document.getElementById(`entry-${entry}`)?.scrollIntoView({ block: 'center' })
}

const note = useNote(number)
const lookAgain = useLookAgain(number)
/** Takes a look again, and leads to what the record says of it. */
const takeAgain = (look: Schemas['NewLook']) =>
  attempt(async () => {
    await lookAgain.mutateAsync(look)
    const last = (await record.refetch()).data?.at(-1)
    if (last) await pick(last.seq)
  })
const text = ref('')
const close = useClose(number)
const closing = ref(false)
const outcome = ref<'repaired-by-hand' | 'mitigated' | 'false-alarm' | 'cleared-itself' | 'not-repaired'>(
  'repaired-by-hand',
)
const outcomes = [
  { title: 'repaired by hand', value: 'repaired-by-hand' },
  { title: 'mitigated', value: 'mitigated' },
  { title: 'false alarm', value: 'false-alarm' },
  { title: 'cleared itself', value: 'cleared-itself' },
  { title: 'not repaired', value: 'not-repaired' },
]
const because = ref('')

const write = () =>
  attempt(
    () => note.mutateAsync(text.value),
    () => (text.value = ''),
  )
const end = () =>
  attempt(
    () => close.mutateAsync({ outcome: outcome.value, because: because.value }),
    () => (closing.value = false),
  )
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="i && q.data.value">
      <header class="head">
        <div>
          <div class="top">
            <p class="faint">
              Incident {{ i.number }} ·
              <router-link v-if="i.service" :to="`/services/${i.service}`">{{ i.service }}</router-link><template v-else
                >no service</template
              >
            </p>
            <div v-if="i.state === 'open' && session.may('responder')" class="by-hand">
              <v-btn v-if="i.holder !== session.me?.name" size="small" :loading="hold.isPending.value" @click="take"
                >Take it</v-btn
              >
              <v-btn size="small" @click="closing = !closing">Close by hand</v-btn>
            </div>
          </div>
          <h1>{{ i.title }}</h1>
          <p class="facts">
            <StateWord :state="i.severity" />
            <StateWord :state="i.state" />
            <StateWord v-if="i.waiting_on && i.waiting_on !== 'nobody'" :state="i.waiting_on" />
            <span class="faint">opened <TimeAgo :at="i.opened_at" /></span>
            <a v-if="around.data.value?.returns.length" href="#around"
              >↻ {{ before(around.data.value.returns.length) }}</a
            >
            <span v-if="i.holder" class="faint">held by {{ i.holder }}</span>
            <span v-if="(i.alerts ?? 0) > 1" class="faint num">{{ i.alerts }} alerts</span>
            <router-link v-if="i.merged_into" :to="`/incidents/${i.merged_into}`"
              >part of incident {{ i.merged_into }}</router-link
            >
            <a :href="`/api/v1/incidents/${i.number}/report?form=html`" target="_blank">report</a>
            <a v-if="alert?.link" :href="alert.link" target="_blank" rel="noreferrer">at the source</a>
          </p>
        </div>
      </header>
      <section v-if="closing && i.state === 'open'" class="closing" aria-label="Close by hand">
        <v-select v-model="outcome" :items="outcomes" label="Outcome" hide-details />
        <v-text-field v-model="because" label="Why, for the record" hide-details maxlength="5000" />
        <v-btn :disabled="!because.trim()" :loading="close.isPending.value" @click="end">Close the incident</v-btn>
      </section>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <IncidentTiles
        v-if="i.state === 'closed' && told.data.value"
        :sum="told.data.value.sum"
        :outcome="i.outcome ?? ''"
        :because="i.because ?? ''"
        :took="took"
        :harm="q.data.value.harm"
      />
      <GatePanel v-for="g in q.data.value.gates" :key="g.id" :gate="g" />
      <QuestionPanel v-for="x in q.data.value.questions" :key="x.id" :question="x" />
      <HandOverPanel v-if="q.data.value.handed_over" :over="q.data.value.handed_over" :holder="i.holder" />
      <SuggestPanel v-if="i.state === 'open' && !running.length" :number="i.number" />
      <IncidentStrip v-if="i.strip" :strip="i.strip" :open="i.state === 'open'" @pick="pick" />
      <template v-if="i.state === 'open'">
        <IncidentAround :incident="i" :alerts="q.data.value.alerts" />
        <PeopleTold :incident="i.number" :tickets="q.data.value.tickets ?? []" />
      </template>
      <LiveOutput :runs="running.map((r) => r.id)" />
      <div class="record-head">
        <v-tabs v-model="tab" density="compact" color="primary">
          <v-tab value="story">Story</v-tab>
          <v-tab value="record">Record {{ i.entries }}</v-tab>
          <template v-if="i.state === 'closed'">
            <v-tab value="around">Around</v-tab>
            <v-tab value="messages">Messages</v-tab>
          </template>
        </v-tabs>
        <span class="faint">times in {{ zoneName }}</span>
        <span class="faint runs"
          >Runs:
          <router-link v-for="r in q.data.value.runs" :key="r.id" :to="`/runs/${r.id}`"
            >{{ r.runbook }} ({{ r.state }})</router-link
          ><template v-if="!q.data.value.runs.length">none</template></span
        >
      </div>
      <p v-if="told.error.value && tab === 'story'" role="alert" class="empty">{{ told.error.value.message }}</p>
      <StoryRows v-else-if="tab === 'story'" :rows="told.data.value?.rows ?? []" @pick="pick" />
      <IncidentAround v-else-if="tab === 'around'" :incident="i" :alerts="q.data.value.alerts" />
      <PeopleTold v-else-if="tab === 'messages'" :incident="i.number" :tickets="q.data.value.tickets ?? []" />
      <RecordList
        v-else
        :entries="record.data.value ?? []"
        :picked="picked"
        :again="session.may('responder')"
        :busy="lookAgain.isPending.value ? lookAgain.variables.value?.step : undefined"
        @again="takeAgain"
      />
      <form v-if="session.may('responder')" class="note" @submit.prevent="write">
        <v-textarea v-model="text" label="Add a note to the record" rows="1" auto-grow hide-details maxlength="20000" />
        <v-btn type="submit" :disabled="!text.trim()" :loading="note.isPending.value">Add note</v-btn>
      </form>
    </template>
  </div>
</template>

<style scoped>
.facts {
  display: flex;
  gap: 2px 16px;
  flex-wrap: wrap;
  margin-top: 4px;
  align-items: baseline;
}
.by-hand {
  display: flex;
  gap: 8px;
}
.head {
  display: block;
}
.top {
  display: flex;
  justify-content: space-between;
  align-items: center;
  gap: 12px;
}
@media (max-width: 700px) {
  .facts,
  .top p {
    font-size: 13px;
  }
}
.closing {
  display: grid;
  grid-template-columns: 220px 1fr auto;
  gap: 12px;
  align-items: center;
  margin: 8px 0 16px;
}
.record-head {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  gap: 20px;
  flex-wrap: wrap;
}
.record-head {
  margin-top: 20px;
  align-items: center;
}
.runs a {
  margin-left: 6px;
}
.note {
  display: flex;
  gap: 12px;
  align-items: center;
  margin-top: 16px;
}
@media (max-width: 700px) {
  .closing {
    grid-template-columns: 1fr;
  }
}
</style>
