<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useLocalStorage } from '@vueuse/core'
import { computed, defineAsyncComponent, nextTick, ref } from 'vue'
import { useRoute } from 'vue-router'

import type { Schemas } from '../api/client'
import GatePanel from '../components/GatePanel.vue'
import HandOverPanel from '../components/HandOverPanel.vue'
import HarmBand from '../components/HarmBand.vue'
import IncidentAround from '../components/IncidentAround.vue'
import IncidentHead from '../components/IncidentHead.vue'
import IncidentSide from '../components/IncidentSide.vue'
import IncidentStrip from '../components/IncidentStrip.vue'
import IncidentTiles from '../components/IncidentTiles.vue'
import LeftOver from '../components/LeftOver.vue'
import LinkList from '../components/LinkList.vue'
import LiveOutput from '../components/LiveOutput.vue'
import PeopleTold from '../components/PeopleTold.vue'
import QuestionPanel from '../components/QuestionPanel.vue'
import StepList from '../components/StepList.vue'
import StoryRows from '../components/StoryRows.vue'
import { useAttempt } from '../composables/attempt'
import type { Mark } from '../composables/chart'
import { span, useClock, zoneName } from '../composables/clock'
import {
  useAround,
  useHold,
  useIncident,
  useLookAgain,
  useNote,
  useRecord,
  useStanding,
  useStory,
} from '../composables/data'
import { useSession } from '../composables/session'
import { plainText } from '../composables/story'

const RecordList = defineAsyncComponent(() => import('../components/RecordList.vue'))
const ActDialog = defineAsyncComponent(() => import('../components/ActDialog.vue'))

const route = useRoute()
const number = computed(() => Number(route.params.number))
const session = useSession()
const now = useClock()
const q = useIncident(number)
const i = computed(() => q.data.value?.incident)
const open = computed(() => i.value?.state === 'open')
const running = computed(() => (q.data.value?.runs ?? []).filter((r) => !r.ended_at))
const took = computed(() =>
  i.value ? span((i.value.closed_at ? Date.parse(i.value.closed_at) : now.value) - Date.parse(i.value.opened_at)) : '',
)
const { wrong, attempt } = useAttempt()

const standing = useStanding(number, open)
const hold = useHold(number)
const take = () => attempt(() => hold.mutateAsync({}))
const act = ref('')

const around = useAround(number)
const told = useStory(number)
const tab = ref<'story' | 'record' | 'around' | 'messages'>('story')
const record = useRecord(number, () => tab.value === 'record')

/** What happened, above the chart: the alert, what was asked and approved, and each change. */
const marks = computed<Mark[]>(() => {
  if (!i.value) return []
  const out: Mark[] = [{ at: i.value.opened_at, what: 'incident', title: 'opened', label: 'alert' }]
  for (const r of told.data.value?.rows ?? []) {
    const title = `${r.title} ${plainText(r.says)}`.trim()
    if (r.lane === 'change' && r.weight === 'tell') out.push({ at: r.at, what: 'change', title, label: r.word })
    else if (r.word === 'gate') out.push({ at: r.at, what: 'gate', title, label: 'asked' })
  }
  if (i.value.closed_at) out.push({ at: i.value.closed_at, what: 'incident', title: 'closed', label: 'closed' })
  return out
})

const picked = ref<number>()
async function pick(entry: number) {
  tab.value = 'record'
  if (!record.data.value?.some((e) => e.seq >= entry)) await record.refetch()
  picked.value = entry
  await nextTick()
  document.getElementById(`entry-${entry}`)?.scrollIntoView({ block: 'center' })
}

const lookAgain = useLookAgain(number)
/** Takes a look again, and leads to what the record says of it. */
const takeAgain = (look: Schemas['NewLook']) =>
  attempt(async () => {
    await lookAgain.mutateAsync(look)
    const last = (await record.refetch()).data?.at(-1)
    if (last) await pick(last.seq)
  })
const reading = useAttempt()
/** Reads again what tells how bad it is. */
const reread = (look: Schemas['NewLook']) =>
  reading.attempt(async () => {
    await lookAgain.mutateAsync(look)
    await standing.refetch()
  })

const note = useNote(number)
/** What is typed is kept until it is in the record, whatever becomes of the page. */
const text = useLocalStorage(() => `urgentis-note-${number.value}`, '')
const write = () =>
  attempt(
    () => note.mutateAsync(text.value),
    () => (text.value = ''),
  )
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="i && q.data.value">
      <IncidentHead
        :incident="i"
        :alerts="q.data.value.alerts"
        :busy="hold.isPending.value"
        :before="around.data.value?.returns.length ?? 0"
        @take="take"
        @act="act = $event"
      />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <IncidentTiles
        v-if="!open && told.data.value"
        :sum="told.data.value.sum"
        :outcome="i.outcome ?? ''"
        :because="i.because ?? ''"
        :took="took"
        :harm="q.data.value.harm"
        :number="i.number"
        :may="session.may('responder')"
        @changed="told.refetch()"
      />
      <LeftOver
        v-if="!open && told.data.value"
        :number="i.number"
        :left="told.data.value.sum.left"
        @changed="told.refetch()"
      />
      <HarmBand
        v-if="open && standing.data.value"
        :standing="standing.data.value"
        :closed="!open"
        :marks="marks"
        :again="session.may('responder')"
        :asked="q.data.value.gates.length + q.data.value.questions.length > 0"
        :busy="lookAgain.isPending.value"
        :wrong="reading.wrong.value"
        @again="reread"
      />
      <GatePanel v-for="(g, n) in q.data.value.gates" :key="g.id" :gate="g" :first="!n" banded />
      <QuestionPanel v-for="x in q.data.value.questions" :key="x.id" :question="x" banded />
      <HandOverPanel v-if="q.data.value.handed_over" :over="q.data.value.handed_over" :holder="i.holder" banded />
      <div v-if="open" class="cols">
        <div class="steps-of">
          <StepList v-for="r in running" :key="r.id" :run="r" :rows="told.data.value?.rows ?? []" />
          <LiveOutput :runs="running.map((r) => r.id)" />
          <p v-if="!running.length" class="nothing">
            No runbook works on it.
            <template v-for="(r, n) in q.data.value.runs" :key="r.id"
              ><template v-if="n">, </template
              ><router-link :to="`/runs/${r.id}`">{{ r.title || r.runbook }} ({{ r.state }})</router-link></template
            >
          </p>
        </div>
        <IncidentSide
          :incident="i"
          :tickets="q.data.value.tickets ?? []"
          :running="running.length > 0"
          :busy="hold.isPending.value"
          :links="standing.data.value?.links ?? []"
          @take="take"
        />
      </div>
      <LinkList v-else :links="standing.data.value?.links ?? []" />
      <div class="record-head">
        <v-tabs v-model="tab" density="compact" color="primary">
          <v-tab value="story">Story</v-tab>
          <v-tab value="record">Record {{ i.entries }}</v-tab>
          <v-tab value="around">Around</v-tab>
          <v-tab value="messages">Messages</v-tab>
        </v-tabs>
        <span class="faint">times in {{ zoneName }}</span>
        <span v-if="!open" class="faint runs"
          >Runs:
          <router-link v-for="r in q.data.value.runs" :key="r.id" :to="`/runs/${r.id}`"
            >{{ r.runbook }} ({{ r.state }})</router-link
          ><template v-if="!q.data.value.runs.length">none</template></span
        >
      </div>
      <IncidentStrip
        v-if="i.strip && (tab === 'story' || tab === 'record')"
        :strip="i.strip"
        :open="open"
        @pick="pick"
      />
      <template v-if="tab === 'story'">
        <p v-if="told.error.value" role="alert" class="empty">{{ told.error.value.message }}</p>
        <StoryRows v-else :rows="told.data.value?.rows ?? []" @pick="pick" />
      </template>
      <div v-else-if="tab === 'around'" id="around"><IncidentAround :incident="i" :alerts="q.data.value.alerts" /></div>
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
        <ActButton type="submit" :disabled="!text.trim()" :loading="note.isPending.value">Add note</ActButton>
      </form>
      <ActDialog
        v-if="act"
        :act="act"
        :incident="i"
        :alerts="q.data.value.alerts"
        @done="q.refetch()"
        @closed="act = ''"
      />
    </template>
  </div>
</template>

<style scoped>
.cols {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 24px;
  margin-top: 4px;
}
.steps-of {
  min-width: 0;
}
.nothing {
  padding: 12px 16px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
}
.record-head {
  display: flex;
  gap: 4px 20px;
  flex-wrap: wrap;
  align-items: center;
  margin: 20px 0 10px;
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.14);
}
.record-head .runs {
  margin-left: auto;
}
.note {
  display: flex;
  gap: 12px;
  align-items: flex-start;
  margin-top: 20px;
  max-width: 900px;
}
@media (max-width: 1099px) {
  .cols {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
