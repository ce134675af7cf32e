<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import CountedDialog from '../components/CountedDialog.vue'
import { useServices } from '../composables/data'
import { csvOf, useReport, type Reported } from '../composables/report'
import { look } from '../composables/words'

/** What incidents cost in time and what runbooks saved; each figure opens the incidents that it counts. */
const service = ref('')
const days = ref(30)
const which = computed<Reported>(() => ({ service: service.value, days: days.value }))
const q = useReport(which)
const r = computed(() => q.data.value)
const services = useServices()
const names = computed(() => [
  { title: 'All services', value: '' },
  ...(services.data.value ?? []).map((s) => ({ title: s.name, value: s.name })),
])
const times = [7, 30, 90, 365].map((d) => ({ title: `Last ${d} days`, value: d }))

type Counted = { figure: Schemas['FigureName']; of?: string; title: string }
const open = ref<Counted>()
const show = (figure: Schemas['FigureName'], of: string | undefined, title: string) =>
  (open.value = { figure, of, title })

const capital = (s: string) => s.charAt(0).toUpperCase() + s.slice(1)
const most = computed(() => Math.max(1, ...(r.value?.months ?? []).map((m) => m.incidents)))
const part = (n: number) => `${(100 * n) / most.value}%`
const rest = (m: Schemas['CountedGroup']) => m.incidents - m.without_people - m.assisted
const day = (at: string) =>
  new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeZone: 'UTC' }).format(new Date(at))
</script>

<template>
  <div class="page">
    <div class="top">
      <p class="crumb">Reports</p>
      <div class="which">
        <v-select v-model="service" :items="names" label="Service" density="compact" hide-details />
        <v-select v-model="days" :items="times" label="Closed in the" density="compact" hide-details />
        <v-btn variant="outlined" :href="csvOf(which)" download="incidents.csv">CSV</v-btn>
      </div>
    </div>
    <h1 class="lead">{{ r?.says ?? 'Reports' }}</h1>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
    <template v-if="r">
      <p class="faint">
        Closed from {{ day(r.from) }} to {{ day(r.until) }}. Saved is what authors say it takes by hand (<span
          class="mono"
          >saves:</span
        >). Each figure opens the incidents that it counts.
      </p>
      <p v-if="!r.incidents" class="empty">
        No incident was closed in that time. Choose a longer one, or all services; what is open is on
        <router-link to="/">Now</router-link>.
      </p>
      <div v-else class="tiles">
        <div v-for="s in r.spreads" :key="s.figure">
          <h2>{{ capital(s.title) }}</h2>
          <button v-if="s.of" type="button" class="figure" @click="show(s.figure, undefined, capital(s.title))">
            {{ s.median || '–' }}
          </button>
          <p v-else class="none">–</p>
          <p class="faint">{{ s.says }}</p>
        </div>
        <div>
          <h2>False alarms</h2>
          <button type="button" class="figure" @click="show('false-alarm', undefined, 'False alarms')">
            {{ r.false_alarms.incidents }} of {{ r.false_alarms.all }}
          </button>
          <p class="faint">
            <button type="button" class="link" @click="show('came-back', undefined, 'Came back within a day')">
              {{ r.came_back.incidents }}
            </button>
            came back within a day
          </p>
        </div>
      </div>

      <div class="columns">
        <section v-if="r.months.length" class="months">
          <h2>By month, and who ended them</h2>
          <table class="plain" aria-label="By month">
            <thead>
              <tr>
                <th>Month</th>
                <th class="r">Incidents</th>
                <th class="wide">
                  <span class="key alone" /> nobody <span class="key with" /> people and a runbook
                  <span class="key hand" /> the rest
                </th>
                <th class="r">Recovery</th>
                <th class="r">Saved</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="m in r.months" :key="m.of">
                <td>{{ m.title }}</td>
                <td class="r">
                  <button type="button" class="link" @click="show('month', m.of, m.title)">{{ m.incidents }}</button>
                </td>
                <td class="wide">
                  <span
                    class="bar"
                    role="img"
                    :aria-label="`${m.without_people} needed nobody, ${m.assisted} people and a runbook, ${rest(m)} the rest`"
                  >
                    <i class="alone" :style="{ width: part(m.without_people) }" />
                    <i class="with" :style="{ width: part(m.assisted) }" />
                    <i class="hand" :style="{ width: part(rest(m)) }" />
                  </span>
                </td>
                <td class="r num">{{ m.recovery.median || '–' }}</td>
                <td class="r num">{{ m.saved || '–' }}</td>
              </tr>
            </tbody>
          </table>
        </section>
        <section>
          <h2>To do</h2>
          <ul v-if="r.to_do.length" class="lst">
            <li v-for="t in r.to_do" :key="t.title">
              <span
                ><b>{{ t.title }}</b
                ><br /><span class="faint">{{ t.says }}</span></span
              >
              <button v-if="t.incidents" type="button" class="link" @click="show(t.figure, t.of, t.title)">
                {{ t.incidents }}
              </button>
            </li>
          </ul>
          <p v-else class="empty">Nothing that these figures tell.</p>
        </section>
      </div>

      <section
        v-for="g in [
          { title: 'By service', of: 'Service', rows: r.services },
          { title: 'By source', of: 'Source', rows: r.sources },
        ]"
        :key="g.title"
      >
        <template v-if="g.rows.length">
          <h2>{{ g.title }}</h2>
          <table class="plain" :aria-label="g.title">
            <thead>
              <tr>
                <th>{{ g.of }}</th>
                <th class="r">Incidents</th>
                <th class="r">Nobody</th>
                <th class="r wide">Evidence</th>
                <th class="r wide">Decision</th>
                <th class="r">Recovery</th>
                <th class="r wide">False alarms</th>
                <th class="r wide">Came back</th>
                <th class="r">Saved</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="s in g.rows" :key="s.of">
                <td>
                  <router-link v-if="g.of === 'Service'" :to="`/services/${s.of}`">{{ s.title }}</router-link>
                  <template v-else>{{ s.title }}</template>
                </td>
                <td class="r">
                  <button type="button" class="link" @click="show(s.figure, s.of, s.title)">{{ s.incidents }}</button>
                </td>
                <td class="r num">{{ s.without_people || '–' }}</td>
                <td class="r wide num">{{ s.evidence.median || '–' }}</td>
                <td class="r wide num">{{ s.decision.median || '–' }}</td>
                <td class="r num">{{ s.recovery.median || '–' }}</td>
                <td class="r wide num">{{ s.false_alarms || '–' }}</td>
                <td class="r wide num">{{ s.came_back || '–' }}</td>
                <td class="r num">{{ s.saved || '–' }}</td>
              </tr>
            </tbody>
          </table>
        </template>
      </section>

      <div class="columns">
        <section v-if="r.runbooks.length">
          <h2>Runbooks</h2>
          <table class="plain" aria-label="Runbooks">
            <thead>
              <tr>
                <th>Runbook</th>
                <th class="r">Incidents</th>
                <th class="r wide">Handed over</th>
                <th class="r wide">Failed</th>
                <th class="r">Saved</th>
                <th>How it does</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="b in r.runbooks" :key="b.name">
                <td>
                  <router-link :to="`/runbooks/${b.name}`">{{ b.name }}</router-link>
                </td>
                <td class="r">
                  <button v-if="b.incidents" type="button" class="link" @click="show('runbook', b.name, b.name)">
                    {{ b.incidents }}
                  </button>
                  <template v-else>–</template>
                </td>
                <td class="r wide num">{{ b.handed_over || '–' }}</td>
                <td class="r wide num">{{ b.failed || '–' }}</td>
                <td class="r num">{{ b.saved || '–' }}</td>
                <td>
                  <b v-if="b.verdict">{{ b.verdict }}: </b>{{ b.says }}
                </td>
              </tr>
            </tbody>
          </table>
        </section>
        <section v-if="r.outcomes.length">
          <h2>How they ended</h2>
          <ul class="lst">
            <li v-for="o in r.outcomes" :key="o.of">
              <span>{{ look(o.title).word }}</span>
              <button type="button" class="link" @click="show('outcome', o.of, look(o.title).word)">
                {{ o.incidents }}
              </button>
            </li>
          </ul>
        </section>
      </div>
      <section v-if="r.no_runbook.length">
        <h2>Alerts that no runbook started for</h2>
        <ul class="lst">
          <li v-for="n in r.no_runbook" :key="n.of">
            <span>{{ n.title }}</span>
            <button type="button" class="link" @click="show('no-runbook', n.of, n.title)">{{ n.incidents }}</button>
          </li>
        </ul>
      </section>
    </template>
    <CountedDialog v-if="open" :counted="open" :which="which" @close="open = undefined" />
  </div>
</template>

<style scoped>
.top {
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: center;
  gap: 8px 16px;
}
.crumb {
  color: rgba(var(--v-theme-on-surface), 0.74);
}
.which {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.which > .v-select {
  width: 190px;
}
.lead {
  font-size: 28px;
  line-height: 36px;
  font-weight: 700;
  margin: 4px 0;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 6px;
  margin: 16px 0 24px;
}
.tiles > div {
  padding: 12px 16px 14px;
  border-left: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  min-width: 0;
}
.tiles > div:first-child {
  border-left: 0;
}
.tiles h2 {
  margin: 0 0 4px;
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
.figure,
.link {
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: rgb(var(--v-theme-primary));
  text-decoration: underline;
  text-underline-offset: 3px;
  cursor: pointer;
  font-variant-numeric: tabular-nums;
}
.figure {
  font-size: 22px;
  line-height: 30px;
  font-weight: 660;
  color: inherit;
}
.none {
  font-size: 22px;
  line-height: 30px;
}
.r .link {
  text-align: right;
}
.link {
  min-width: 24px;
  min-height: 24px;
}
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr);
  gap: 24px 40px;
}
section {
  margin-bottom: 24px;
}
.r {
  text-align: right;
}
.bar {
  display: flex;
  height: 14px;
  min-width: 120px;
}
.bar i,
.key {
  display: inline-block;
  height: 14px;
}
.key {
  width: 10px;
  height: 10px;
  margin-left: 6px;
}
.alone {
  background: rgb(var(--v-theme-primary));
}
.with {
  background: rgba(var(--v-theme-info), 0.6);
}
.hand {
  background: rgba(var(--v-theme-on-surface), 0.28);
}
td {
  overflow-wrap: anywhere;
}
@media (max-width: 1099px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
@media (max-width: 700px) {
  .tiles {
    grid-template-columns: 1fr 1fr;
  }
  .tiles > div:nth-child(odd) {
    border-left: 0;
  }
}
</style>
