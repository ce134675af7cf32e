<script setup lang="ts">
import { useQueries, useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import StateShape from '../components/StateShape.vue'
import { exact, relative, useClock } from '../composables/clock'
import { useOnCall } from '../composables/data'
import { useSession } from '../composables/session'
import FormDialog from '../components/FormDialog.vue'

/** Who of each team is on call, two weeks at a time: a lane for each line, gaps marked, stand-ins entered by a click. */
const session = useSession()
const now = useClock()
const teams = useOnCall()
const dayMs = 86_400_000
const days = 14
const offset = ref(0)
const from = computed(() => {
  const d = new Date()
  d.setHours(0, 0, 0, 0)
  return d.getTime() + offset.value * dayMs
})
const until = computed(() => from.value + days * dayMs)
const columns = computed(() =>
  Array.from({ length: days }, (_, i) => {
    const d = new Date(from.value + i * dayMs)
    return {
      at: d.getTime(),
      day: d.toLocaleDateString('en-GB', { weekday: 'short' }),
      date: d.toLocaleDateString('en-GB', { day: 'numeric', month: 'short' }),
      end: d.getDay() === 0 || d.getDay() === 6,
    }
  }),
)
const duties = useQueries({
  queries: computed(() =>
    (teams.data.value ?? []).map((t) => ({
      queryKey: ['duties', t.team, from.value],
      queryFn: () =>
        got(
          api.GET('/api/v1/teams/{name}/duties', {
            params: {
              path: { name: t.team },
              query: { from: new Date(from.value).toISOString(), until: new Date(until.value).toISOString() },
            },
          }),
        ),
    })),
  ),
})
const place = (d: Schemas['Duty']) => {
  const a = Math.max(from.value, Date.parse(d.from))
  const b = Math.min(until.value, Date.parse(d.until))
  return {
    left: `${((a - from.value) / (days * dayMs)) * 100}%`,
    width: `${(Math.max(0, b - a) / (days * dayMs)) * 100}%`,
  }
}
/** People keep their tint from team to team. */
const tint = (person: string) => [...person].reduce((h, c) => (h * 31 + c.charCodeAt(0)) % 6, 7)
const lanes = computed(() =>
  (teams.data.value ?? []).map((t, i) => {
    const list = duties.value[i]?.data ?? []
    const lines = Math.max(1, ...list.map((d) => d.line))
    const gap = list.find((d) => d.line === 1 && !d.person && Date.parse(d.until) > now.value)
    return {
      team: t,
      gap,
      lines: Array.from({ length: lines }, (_, n) => list.filter((d) => d.line === n + 1)),
      error: duties.value[i]?.error?.message,
    }
  }),
)
const gaps = computed(() => lanes.value.filter((l) => l.gap))
const names = ['Primary', 'Secondary']

const editing = ref(false)
const team = ref('')
const line = ref(1)
const person = ref<string | null>(null)
const start = ref('')
const end = ref('')
const local = (at: number) => {
  const d = new Date(at - new Date(at).getTimezoneOffset() * 60_000)
  return d.toISOString().slice(0, 16)
}
const members = computed(() => teams.data.value?.find((t) => t.team === team.value)?.members ?? [])
function standIn(t: string, d: Schemas['Duty']) {
  if (!session.may('responder')) return
  team.value = t
  line.value = d.line
  person.value = d.person ? null : (session.me?.name ?? null)
  start.value = local(Math.max(Date.parse(d.from), now.value))
  end.value = local(Date.parse(d.until))
  editing.value = true
}
const save = () =>
  got(
    api.POST('/api/v1/teams/{name}/stand-ins', {
      params: { path: { name: team.value } },
      body: {
        person: person.value ?? '',
        line: line.value,
        from: new Date(start.value).toISOString(),
        until: new Date(end.value).toISOString(),
      },
    }),
  )
const stands = useQuery({
  queryKey: computed(() => ['stand-ins', team.value]),
  queryFn: () => got(api.GET('/api/v1/teams/{name}/stand-ins', { params: { path: { name: team.value } } })),
  enabled: () => Boolean(team.value),
})
async function refresh() {
  await teams.refetch()
  await Promise.all(duties.value.map((d) => d.refetch()))
  await stands.refetch()
}
const remove = async (id: number) => {
  await got(api.DELETE('/api/v1/teams/{name}/stand-ins/{id}', { params: { path: { name: team.value, id } } }))
  await refresh()
}
</script>

<template>
  <div class="page">
    <header class="head">
      <div>
        <h1 v-if="gaps.length" class="amber">
          <StateShape name="pennant" /> Nobody is primary for
          {{ gaps.map((g) => g.team.title || g.team.team).join(', ') }} at some time in these two weeks
        </h1>
        <h1 v-else>Rotas</h1>
        <p class="faint">Times of this browser. A turn is a document of its team; a stand-in is entered by a click.</p>
      </div>
      <div class="moves">
        <v-btn size="small" aria-label="Two weeks earlier" @click="offset -= days">Earlier</v-btn>
        <v-btn size="small" :disabled="!offset" @click="offset = 0">Today</v-btn>
        <v-btn size="small" aria-label="Two weeks later" @click="offset += days">Later</v-btn>
        <v-btn v-if="session.may('author')" size="small" color="primary" variant="flat" to="/documents/team"
          >Add a team</v-btn
        >
      </div>
    </header>
    <p v-if="teams.error.value" role="alert" class="empty">{{ teams.error.value.message }}</p>
    <p v-else-if="teams.isSuccess.value && !lanes.length" class="empty">
      No team has a rota yet. A team is a document with its members and turns: add one, and whoever is on call is
      called.
    </p>
    <div v-else class="scroll" tabindex="0" role="region" aria-label="Two weeks of turns">
      <div class="calendar">
        <div class="days">
          <span class="who" />
          <span v-for="c in columns" :key="c.at" :class="{ end: c.end }">{{ c.day }}<br />{{ c.date }}</span>
        </div>
        <section v-for="l in lanes" :key="l.team.team" :aria-label="l.team.title || l.team.team">
          <h2>
            <router-link :to="`/documents/team/${l.team.team}`">{{ l.team.title || l.team.team }}</router-link>
            <span class="faint beside">{{ l.team.members.join(', ') }}</span>
            <span v-if="l.gap" class="amber beside"
              >nobody from <span :title="exact(l.gap.from)">{{ relative(l.gap.from, now) }}</span></span
            >
            <span v-if="l.team.twice[0]" class="amber beside"
              >{{ l.team.twice[0].person }} alone in two lines {{ relative(l.team.twice[0].from, now) }}</span
            >
          </h2>
          <p v-if="l.error" role="alert" class="wrong">{{ l.error }}</p>
          <div v-for="(list, n) in l.lines" :key="n" class="lane">
            <span class="who">{{ names[n] ?? `Line ${n + 1}` }}</span>
            <div class="track">
              <span
                v-if="now > from && now < until"
                class="now"
                :style="{ left: `${((now - from) / (days * dayMs)) * 100}%` }"
              />
              <button
                v-for="d in list"
                :key="d.from"
                type="button"
                class="turn"
                :class="[d.person ? `tint-${tint(d.person)}` : 'gap', { stands: d.instead_of }]"
                :style="place(d)"
                :aria-label="`${d.person || 'nobody'}, ${exact(d.from)} to ${exact(d.until)}${d.instead_of ? `, for ${d.instead_of}` : ''}`"
                :title="`${d.person || 'nobody'}, ${exact(d.from)} to ${exact(d.until)}${d.instead_of ? `, for ${d.instead_of}` : ''}`"
                @click="standIn(l.team.team, d)"
              >
                {{ d.person || 'nobody' }}
              </button>
            </div>
          </div>
        </section>
      </div>
    </div>
    <FormDialog
      v-model="editing"
      title="A stand-in"
      button="Enter it"
      :ready="Boolean(person && start && end)"
      :go="save"
      says="Whoever stands in is called in the place of whoever has the turn."
      @done="refresh"
    >
      <v-combobox v-model="person" label="Who stands in" :items="members" hide-details autofocus />
      <v-text-field v-model="start" label="From" type="datetime-local" hide-details />
      <v-text-field v-model="end" label="Until" type="datetime-local" hide-details />
      <div v-if="stands.data.value?.length">
        <h3>Entered for this team</h3>
        <p v-for="x in stands.data.value" :key="x.id" class="stand">
          {{ x.person }}, {{ exact(x.from) }} to {{ exact(x.until) }}
          <v-btn size="x-small" variant="text" @click="remove(x.id)">Remove</v-btn>
        </p>
      </div>
    </FormDialog>
  </div>
</template>

<style scoped>
.moves {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
}
.amber {
  color: rgb(var(--v-theme-warning));
}
.scroll {
  overflow-x: auto;
}
.calendar {
  min-width: 860px;
}
.days,
.lane {
  display: flex;
}
.days span {
  flex: 1;
  font-size: 12px;
  line-height: 16px;
}
.days .who,
.lane .who {
  flex: none;
  width: 84px;
  font-size: 12px;
  line-height: 32px;
}
.end {
  color: rgba(var(--v-theme-on-surface), 0.72);
}
section h2 {
  margin: 14px 0 4px;
  font-size: 14px;
}
.beside {
  margin-left: 10px;
  font-size: 12px;
  font-weight: 400;
}
.lane {
  margin-bottom: 4px;
}
.track {
  position: relative;
  flex: 1;
  height: 32px;
  background: rgba(var(--v-theme-on-surface), 0.05);
  border-radius: 3px;
}
.now {
  position: absolute;
  top: -2px;
  bottom: -2px;
  width: 2px;
  background: rgb(var(--v-theme-error));
  z-index: 1;
}
.turn {
  position: absolute;
  top: 2px;
  bottom: 2px;
  padding: 0 6px;
  border: 1px solid rgb(var(--v-theme-surface));
  border-radius: 3px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
  text-align: left;
  font: inherit;
  font-size: 12px;
  font-weight: 600;
  color: rgb(var(--v-theme-on-surface));
  cursor: pointer;
}
.tint-0 {
  background: rgba(var(--v-theme-primary), 0.22);
}
.tint-1 {
  background: rgba(var(--v-theme-info), 0.22);
}
.tint-2 {
  background: rgba(var(--v-theme-primary), 0.36);
}
.tint-3 {
  background: rgba(var(--v-theme-info), 0.36);
}
.tint-4 {
  background: rgba(var(--v-theme-on-surface), 0.13);
}
.tint-5 {
  background: rgba(var(--v-theme-on-surface), 0.22);
}
.stands {
  border-style: dashed;
  border-color: rgb(var(--v-theme-on-surface));
}
.gap {
  color: rgb(var(--v-theme-warning));
  background: repeating-linear-gradient(
    -45deg,
    rgba(var(--v-theme-warning), 0.06) 0 6px,
    rgba(var(--v-theme-warning), 0.2) 6px 9px
  );
  border-color: rgb(var(--v-theme-warning));
}
.stand {
  font-size: 13px;
}
</style>
