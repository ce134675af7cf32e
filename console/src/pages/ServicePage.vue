<script setup lang="ts">
import { useLocalStorage } from '@vueuse/core'
import { computed } from 'vue'
import { useRoute } from 'vue-router'

import MarkList from '../components/MarkList.vue'
import ObjectivePanel from '../components/ObjectivePanel.vue'
import ReadingChart from '../components/ReadingChart.vue'
import StateWord from '../components/StateWord.vue'
import TimeAgo from '../components/TimeAgo.vue'
import {
  useIncidents,
  useMarks,
  useObjectives,
  useReadings,
  useServiceSuggestions,
  useServices,
  useWatches,
} from '../composables/data'

// A service: how it stands against its objectives, what is read of it, what happened to it, and what helps it.
const route = useRoute()
const name = computed(() => String(route.params.name))
const services = useServices()
const service = computed(() => services.data.value?.find((s) => s.name === name.value))
const neededBy = computed(() =>
  (services.data.value ?? []).filter((s) => s.depends_on?.includes(name.value)).map((s) => s.name),
)
const lengths = [
  { hours: 1, title: '1 h' },
  { hours: 6, title: '6 h' },
  { hours: 24, title: '1 day' },
  { hours: 168, title: '7 days' },
  { hours: 720, title: '30 days' },
]
const hours = useLocalStorage('urgentis-service-hours', 1)
const stretch = computed(() => ({ hours: hours.value }))
const objectives = useObjectives(name)
const readings = useReadings(name)
const watches = useWatches(name)
const marks = useMarks(name, stretch)
const incidents = useIncidents(undefined, 8, () => ({ service: name.value }))
const fitting = useServiceSuggestions(name)

/** The readings that are numbers, each once; those that are text beside them. */
const drawn = computed(() => {
  const seen = new Map<string, string>()
  for (const r of readings.data.value ?? []) if (r.value !== undefined) seen.set(r.name, r.unit ?? '')
  return [...seen]
})
const said = computed(() => {
  const by = new Map<string, { name: string; said: string; targets: string[]; at: string }>()
  for (const r of readings.data.value ?? []) {
    if (r.value !== undefined) continue
    const key = `${r.name}\n${r.said}`
    const x = by.get(key) ?? { name: r.name, said: r.said ?? '', targets: [], at: r.at }
    if (r.target) x.targets.push(r.target)
    if (r.at < x.at) x.at = r.at
    by.set(key, x)
  }
  return [...by.values()]
})
const troubled = computed(() => (watches.data.value ?? []).filter((w) => w.trouble))
/** What happens to changes of the service. */
const stances = {
  ask: 'changes need approval',
  act: 'changes run without approval',
  suggest: 'changes are only suggested',
}
</script>

<template>
  <div class="page">
    <p v-if="services.isSuccess.value && !service" class="empty">There is no service {{ name }}.</p>
    <template v-if="service">
      <div class="head">
        <div>
          <h1>{{ service.title || service.name }}</h1>
          <p class="faint">
            <span class="mono">{{ service.name }}</span> · {{ service.owner }} · {{ stances[service.stance ?? 'ask'] }}
            <template v-if="service.depends_on?.length">
              · needs
              <router-link v-for="s in service.depends_on" :key="s" :to="`/services/${s}`" class="gap">{{
                s
              }}</router-link>
            </template>
            <template v-if="neededBy.length">
              · needed by
              <router-link v-for="s in neededBy" :key="s" :to="`/services/${s}`" class="gap">{{ s }}</router-link>
            </template>
          </p>
          <p v-if="service.harm">{{ service.harm }}</p>
        </div>
        <div class="lengths" role="group" aria-label="How far back">
          <button
            v-for="l in lengths"
            :key="l.hours"
            type="button"
            class="quiet"
            :aria-pressed="hours === l.hours"
            @click="hours = l.hours"
          >
            {{ l.title }}
          </button>
        </div>
      </div>

      <p v-for="w in troubled" :key="w.name" role="alert" class="wrong">
        The watch {{ w.name }} got an answer of {{ w.answered }} of {{ w.asked }}: {{ w.trouble }}
      </p>

      <h2>Objectives</h2>
      <ObjectivePanel
        v-for="o in objectives.data.value"
        :key="o.name"
        :objective="o"
        :stretch="stretch"
        :marks="marks.data.value ?? []"
      />
      <p v-if="objectives.isSuccess.value && !objectives.data.value?.length" class="empty">
        None yet. An objective is a document: how much of the time, or of all events, is to be good.
        <router-link to="/documents">Documents</router-link>
      </p>

      <h2>Readings</h2>
      <div v-if="drawn.length" class="charts">
        <ReadingChart
          v-for="[r, unit] in drawn"
          :key="r"
          :service="name"
          :name="r"
          :unit="unit"
          :stretch="stretch"
          :marks="marks.data.value ?? []"
        />
      </div>
      <p v-else-if="readings.isSuccess.value" class="empty">
        Nothing was read yet. Runbooks keep what they read, and a watch looks all the time.
      </p>
      <table v-if="said.length" class="plain" aria-label="Readings that are text">
        <tbody>
          <tr v-for="r in said" :key="r.name + r.said">
            <td class="mono">{{ r.name }}</td>
            <td class="mono">{{ r.said || '(empty)' }}</td>
            <td>{{ r.targets.join(', ') }}</td>
            <td class="faint"><TimeAgo :at="r.at" /></td>
          </tr>
        </tbody>
      </table>

      <h2>What happened, here and on what it needs</h2>
      <MarkList :marks="marks.data.value ?? []" :own="name" />

      <div class="sides">
        <div>
          <h2>Incidents</h2>
          <ul class="list">
            <li v-for="i in incidents.data.value?.items ?? []" :key="i.number">
              <router-link :to="`/incidents/${i.number}`">{{ i.number }} {{ i.title }}</router-link>
              <div class="faint"><StateWord :state="i.outcome || i.state" /> <TimeAgo :at="i.opened_at" /></div>
            </li>
          </ul>
          <p v-if="incidents.isSuccess.value && !incidents.data.value?.items.length" class="faint">None so far.</p>
        </div>
        <div>
          <h2>Runbooks that may fit</h2>
          <ul class="list">
            <li v-for="r in fitting.data.value?.runbooks ?? []" :key="r.runbook">
              <router-link :to="`/runbooks/${r.runbook}`">{{ r.title }}</router-link>
              <div class="faint">{{ r.reasons.join('; ') }}</div>
            </li>
          </ul>
          <p v-if="fitting.isSuccess.value && !fitting.data.value?.runbooks.length" class="faint">
            None yet. <router-link to="/library">The library</router-link> may have one.
          </p>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.head {
  flex-wrap: wrap;
}
.gap {
  margin-right: 6px;
}
.lengths {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
}
.lengths [aria-pressed='true'] {
  text-decoration: underline;
  text-underline-offset: 5px;
  font-weight: 650;
}
.charts,
.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 420px), 1fr));
  gap: 8px 24px;
}
.list {
  list-style: none;
  padding: 0;
}
.list li {
  padding: 4px 0;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
</style>
