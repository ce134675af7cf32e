<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, got } from '../api/client'
import FirstSteps from '../components/FirstSteps.vue'
import IncidentRows from '../components/IncidentRows.vue'
import NowCard from '../components/NowCard.vue'
import NowSide from '../components/NowSide.vue'
import RunRows from '../components/RunRows.vue'
import { useAttempt } from '../composables/attempt'
import { useIncidents, useRuns } from '../composables/data'
import { useSession } from '../composables/session'
import { useWaits } from '../composables/waits'

const session = useSession()
const me = computed(() => session.me?.name ?? '')
const { mine, unclaimed, gates } = useWaits()
const open = useIncidents('open', 100)
const closed = useIncidents('closed', 6)
const runs = useRuns(true)
const byNumber = computed(() => new Map((open.data.value?.items ?? []).map((i) => [i.number, i])))

/** An incident stands once: with what expires first of it. */
const most = 6
const yours = computed(() => {
  const seen = new Set<string>()
  return mine.value.filter((w) => {
    const key = String(w.incident ?? w.run)
    return !seen.has(key) && Boolean(seen.add(key))
  })
})
const own = computed(() => new Set(yours.value.map((w) => w.incident)))
const free = computed(() => {
  const by = new Map(unclaimed.value.map((e) => [e.incident, e]))
  return (open.data.value?.items ?? [])
    .filter((i) => !i.holder && !own.value.has(i.number) && by.has(i.number))
    .map((i) => ({ incident: i, escalation: by.get(i.number) }))
})
const allYours = ref(false)
const allFree = ref(false)
const shown = computed(() => new Set([...own.value, ...free.value.map((f) => f.incident.number)]))
const worth = ['critical', 'major', 'minor', 'warning']
const rest = computed(() =>
  (open.data.value?.items ?? [])
    .filter((i) => !shown.value.has(i.number))
    .sort((a, b) => worth.indexOf(a.severity) - worth.indexOf(b.severity) || a.opened_at.localeCompare(b.opened_at)),
)
const others = computed(() => (gates.data.value ?? []).filter((g) => !g.may_decide && !g.incident))
const many = (n: number, one: string, more: string) => `${n} ${n === 1 ? one : more}`
const title = computed(() => {
  const parts = []
  if (mine.value.length) parts.push(many(mine.value.length, 'waits for you', 'wait for you'))
  if (free.value.length) parts.push(many(free.value.length, 'has no owner', 'have no owner'))
  return parts.length ? parts.join(', ') : 'Nothing waits for you'
})
const sub = computed(() => {
  const list = open.data.value?.items ?? []
  if (!list.length) return 'No incident is open.'
  const counts = worth
    .map((s) => [list.filter((i) => i.severity === s).length, s] as const)
    .filter(([n]) => n)
    .map(([n, s]) => `${n} ${s}`)
  return `${list.length}${open.data.value?.next ? ' and more' : ''} open: ${counts.join(', ')}.`
})

const { wrong, attempt } = useAttempt()
const busy = ref(0)
const take = (number: number) =>
  attempt(async () => {
    busy.value = number
    try {
      await got(api.PUT('/api/v1/incidents/{number}/holder', { params: { path: { number } }, body: {} }))
      await open.refetch()
    } finally {
      busy.value = 0
    }
  })
</script>

<template>
  <div class="page">
    <h1 class="lead">{{ title }}</h1>
    <p class="faint">{{ sub }}</p>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
    <FirstSteps />
    <div class="cols">
      <div class="main">
        <template v-if="yours.length">
          <h2>
            Yours <span class="faint beside">{{ yours.length }}, soonest to expire first</span>
          </h2>
          <NowCard
            v-for="w in allYours ? yours : yours.slice(0, most)"
            :key="w.id"
            :waits="w"
            :incident="byNumber.get(w.incident ?? 0)"
            :me="me"
            :may="session.may('responder')"
          />
          <v-btn v-if="yours.length > most" size="small" variant="text" @click="allYours = !allYours">{{
            allYours ? 'Fewer' : `All ${yours.length}`
          }}</v-btn>
        </template>
        <template v-if="free.length">
          <h2>
            Unclaimed <span class="faint beside">{{ free.length }}</span>
          </h2>
          <NowCard
            v-for="f in allFree ? free : free.slice(0, most)"
            :key="f.incident.number"
            :incident="f.incident"
            :escalation="f.escalation"
            :me="me"
            :may="session.may('responder')"
            :busy="busy === f.incident.number"
            @take="take(f.incident.number)"
          />
          <v-btn v-if="free.length > most" size="small" variant="text" @click="allFree = !allFree">{{
            allFree ? 'Fewer' : `All ${free.length}`
          }}</v-btn>
        </template>
        <h2>
          {{ yours.length || free.length ? 'Also open' : 'Open incidents' }}
          <span v-if="rest.length" class="faint beside">{{ rest.length }}, by severity, then age</span>
          <router-link to="/incidents" class="all">All incidents</router-link>
        </h2>
        <IncidentRows v-if="rest.length" :items="rest" label="Open incidents" />
        <p v-else-if="open.isSuccess.value" class="empty">
          {{
            shown.size
              ? 'No other incident is open.'
              : 'No incident is open. A new one opens here by itself when an alert comes in.'
          }}
        </p>
        <p v-if="open.error.value" role="alert">{{ open.error.value.message }}</p>
        <template v-if="runs.data.value?.items.length">
          <h2>Running runbooks</h2>
          <RunRows :items="runs.data.value.items" label="Running runbooks" />
        </template>
        <template v-if="others.length">
          <h2>Waits for others</h2>
          <p v-for="g in others" :key="g.id" class="empty">
            <router-link :to="`/runs/${g.run}`">{{ g.title }}</router-link> from {{ g.ask }}
          </p>
        </template>
        <template v-if="closed.data.value?.items.length">
          <h2>Closed lately</h2>
          <IncidentRows :items="closed.data.value.items" label="Incidents closed lately" />
        </template>
      </div>
      <NowSide :me="me" />
    </div>
  </div>
</template>

<style scoped>
.lead {
  font-size: 26px;
  line-height: 32px;
  font-weight: 680;
  letter-spacing: -0.018em;
}
.cols {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 304px;
  gap: 24px;
}
.main {
  min-width: 0;
}
.beside {
  margin-left: 8px;
  font-size: 12px;
  font-weight: 400;
}
.all {
  float: right;
  font-size: 12px;
  font-weight: 400;
}
@media (max-width: 1099px) {
  .cols {
    grid-template-columns: minmax(0, 1fr);
  }
}
@media (max-width: 700px) {
  .lead {
    font-size: 20px;
    line-height: 26px;
  }
}
</style>
