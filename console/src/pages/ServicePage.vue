<script setup lang="ts">
import { mdiChevronRight } from '@mdi/js'
import { useLocalStorage } from '@vueuse/core'
import { computed, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import BudgetBar from '../components/BudgetBar.vue'
import LinkList from '../components/LinkList.vue'
import MarkList from '../components/MarkList.vue'
import NeedsPicture from '../components/NeedsPicture.vue'
import ReadingChart from '../components/ReadingChart.vue'
import StateWord from '../components/StateWord.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { misses, short } from '../composables/chart'
import { span, useClock } from '../composables/clock'
import {
  useIncidents,
  useMarks,
  useObjectives,
  useOnCall,
  useReadings,
  useServiceStanding,
  useServiceSuggestions,
  useServices,
  useWatches,
} from '../composables/data'

// A service: how it stands, against what, what is read of it, what happened to it, and what helps it.
const route = useRoute()
const now = useClock()
const name = computed(() => String(route.params.name))
const services = useServices()
const service = computed(() => services.data.value?.find((s) => s.name === name.value))
const lengths = [
  { hours: 1, title: '1 h' },
  { hours: 6, title: '6 h' },
  { hours: 24, title: '1 day' },
  { hours: 168, title: '7 days' },
  { hours: 720, title: '30 days' },
]
const hours = useLocalStorage('urgentis-service-hours', 1)
const stretch = computed(() => ({ hours: hours.value }))
const stands = useServiceStanding(name, stretch)
const objectives = useObjectives(name)
const readings = useReadings(name)
const watches = useWatches(name)
const marks = useMarks(name, stretch)
const incidents = useIncidents(undefined, 8, () => ({ service: name.value }))
const open = useIncidents('open', 200)
const fitting = useServiceSuggestions(name)
const onCall = useOnCall()
const called = computed(() => {
  const turn = onCall.data.value?.find((t) => t.team === service.value?.owner)
  return (turn?.duties ?? []).flatMap((d) => d.person ?? [])
})
const ownOpen = computed(() => (open.data.value?.items ?? []).filter((i) => i.service === name.value))
const limitOf = (reading: string) => stands.data.value?.limits.find((l) => l.reading === reading)?.limit

/** The readings that are numbers, each once, those with a limit first; those that are text beside them. */
const drawn = computed(() => {
  const seen = new Map<string, string>()
  for (const r of readings.data.value ?? []) if (r.value !== undefined) seen.set(r.name, r.unit ?? '')
  return [...seen].sort(([a], [b]) => Number(!limitOf(a)) - Number(!limitOf(b)))
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
/** The newest values of the reading that stands first, target by target. */
const byTarget = computed(() =>
  (readings.data.value ?? [])
    .filter((r) => r.name === drawn.value[0]?.[0] && r.value !== undefined)
    .sort((a, b) => (a.target ?? '').localeCompare(b.target ?? '', 'en', { numeric: true })),
)
const troubled = computed(() => (watches.data.value ?? []).filter((w) => w.trouble))
const chartMarks = computed(() =>
  (marks.data.value ?? []).map((m) => ({
    ...m,
    label:
      m.what === 'incident' && m.incident && m.service === name.value
        ? `incident ${m.incident}`
        : m.what === 'deployment' && m.service === name.value
          ? m.title
          : undefined,
  })),
)

/** When each reading begins in the stretch: where all begin late, the charts show that part alone. */
const begins = reactive(new Map<string, number>())
const whole = ref(false)
const first = computed(() => Math.min(...begins.values()))
const late = computed(() => first.value > now.value - 0.8 * hours.value * 3_600_000)
const zoom = computed(() =>
  late.value && !whole.value ? first.value - Math.max(5000, 0.03 * (now.value - first.value)) : undefined,
)
watch([name, hours], () => {
  begins.clear()
  whole.value = false
})
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
      <div class="top">
        <p class="crumbs">
          <router-link to="/services">Services</router-link> · <strong>{{ service.title || service.name }}</strong>
          <span v-if="service.title" class="mono">&nbsp;{{ service.name }}</span> · owned by {{ service.owner
          }}<template v-if="called.length">, on call {{ called.join(', then ') }}</template> ·
          {{ stances[service.stance ?? 'ask'] }}
        </p>
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
      <template v-if="stands.data.value">
        <h1 class="verdict">{{ stands.data.value.says }}</h1>
        <p class="harm">
          <strong v-if="stands.data.value.state === 'bad' && service.harm" class="wrong">{{ service.harm }}</strong>
          <span v-else-if="stands.data.value.state === 'bad'" class="wait"
            >Harm: not stated by the author ({{ service.owner }})</span
          >
          <span v-else-if="service.harm" class="faint">If it fails: {{ service.harm }}</span>
          <span v-if="stands.data.value.since" class="faint">
            For {{ span(now - Date.parse(stands.data.value.since)) }}.
          </span>
          <span v-for="b in stands.data.value.below" :key="b" class="faint"> {{ b }}</span>
        </p>
        <LinkList class="outside" :links="stands.data.value.links" />
      </template>
      <h1 v-else class="verdict">{{ service.title || service.name }}</h1>
      <p v-if="stands.error.value" role="alert" class="wrong">{{ stands.error.value.message }}</p>

      <ul v-if="ownOpen.length" class="open" aria-label="Open incidents">
        <li v-for="i in ownOpen" :key="i.number">
          <router-link :to="`/incidents/${i.number}`" class="row">
            <StateWord :state="i.severity" />
            <strong>Incident {{ i.number }}</strong>
            <span class="title">{{ i.title }}</span>
            <StateWord v-if="i.waiting_on && i.waiting_on !== 'nobody'" :state="i.waiting_on" />
            <span class="num faint">open {{ span(now - Date.parse(i.opened_at)) }}</span>
            <v-icon :icon="mdiChevronRight" size="18" aria-hidden="true" />
          </router-link>
        </li>
      </ul>
      <p v-for="w in troubled" :key="w.name" role="alert" class="wrong">
        The watch {{ w.name }} got an answer of {{ w.answered }} of {{ w.asked }}: {{ w.trouble }}
      </p>

      <BudgetBar
        v-for="o in objectives.data.value"
        :key="o.name"
        :objective="o"
        :stretch="stretch"
        :marks="chartMarks"
      />
      <p v-if="objectives.isSuccess.value && !objectives.data.value?.length" class="faint">
        No objective yet. One says how much of the time, or of all events, is to be good.
        <router-link to="/documents/objective">Add an objective</router-link>
      </p>

      <div class="readings">
        <h2>Readings</h2>
        <button v-if="late && drawn.length" type="button" class="quiet" @click="whole = !whole">
          {{ whole ? 'Zoom to data' : `Show all of ${lengths.find((l) => l.hours === hours)?.title}` }}
        </button>
      </div>
      <ReadingChart
        v-for="[r, unit] in drawn"
        :key="name + r"
        :service="name"
        :name="r"
        :unit="unit"
        :stretch="stretch"
        :zoom="zoom"
        :limit="limitOf(r)"
        :marks="chartMarks"
        @begins="(at) => begins.set(r, at)"
      />
      <p v-if="readings.isSuccess.value && !drawn.length" class="faint">
        {{ said.length ? 'No reading is a number.' : 'Nothing was read yet.' }} Runbooks keep what they read, and a
        scheduled look reads all the time.
        <router-link to="/documents/watch">Add a scheduled look</router-link>
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

      <div class="sides">
        <div>
          <h2>Needs and needed by</h2>
          <NeedsPicture :name="name" :services="services.data.value ?? []" :open="open.data.value?.items ?? []" />
          <h2>What happened, here and on what it needs</h2>
          <MarkList :marks="marks.data.value ?? []" :own="name" />
        </div>
        <div>
          <template v-if="byTarget.length > 1">
            <h2>
              Targets <span class="faint by">last {{ drawn[0]?.[0] }}</span>
            </h2>
            <ul class="targets">
              <li v-for="r in byTarget" :key="r.target">
                <span class="faint">{{ r.target || 'the service itself' }}</span>
                <strong class="num" :class="{ wrong: misses(r.value ?? 0, limitOf(r.name)) }" :title="`read ${r.at}`"
                  >{{ short(r.value ?? 0) }}{{ r.unit ? ` ${r.unit}` : '' }}</strong
                >
              </li>
            </ul>
          </template>
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
          <h2>Incidents</h2>
          <ul class="list">
            <li v-for="i in incidents.data.value?.items ?? []" :key="i.number">
              <router-link :to="`/incidents/${i.number}`">{{ i.number }} {{ i.title }}</router-link>
              <div class="faint"><StateWord :state="i.outcome || i.state" /> <TimeAgo :at="i.opened_at" /></div>
            </li>
          </ul>
          <p v-if="incidents.isSuccess.value && !incidents.data.value?.items.length" class="faint">None so far.</p>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  justify-content: space-between;
  align-items: center;
}
.crumbs {
  font-size: 13px;
  margin: 0;
}
.verdict {
  font-size: 26px;
  line-height: 32px;
  font-weight: 700;
  overflow-wrap: anywhere;
}
.harm {
  display: flex;
  flex-wrap: wrap;
  gap: 0 8px;
  margin: 2px 0 8px;
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
.open {
  list-style: none;
  padding: 0;
  margin: 8px 0;
}
.row {
  display: flex;
  flex-wrap: wrap;
  gap: 2px 14px;
  align-items: center;
  min-height: 38px;
  padding: 4px 12px;
  margin-bottom: 4px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-left: 5px solid rgb(var(--v-theme-error));
  border-radius: 4px;
  color: inherit;
  text-decoration: none;
}
.row:hover .title {
  text-decoration: underline;
}
.title {
  flex: 1;
  min-width: min(100%, 200px);
  overflow-wrap: anywhere;
}
.readings {
  display: flex;
  justify-content: space-between;
  align-items: baseline;
  margin-top: 12px;
}
.sides {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 420px), 1fr));
  gap: 8px 32px;
  margin-top: 12px;
}
.by {
  font-size: 12.5px;
  font-weight: 400;
}
.targets {
  list-style: none;
  padding: 0;
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(150px, 1fr));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  background: rgb(var(--v-theme-surface));
}
.targets li {
  display: flex;
  justify-content: space-between;
  gap: 8px;
  padding: 5px 10px;
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.1);
  font-size: 13px;
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
