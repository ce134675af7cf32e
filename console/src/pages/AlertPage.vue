<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import StateWord from '../components/StateWord.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { api, got, type Schemas } from '../api/client'
import { useAlert, useAlertSuggestions } from '../composables/data'

const route = useRoute()
const id = computed(() => String(route.params.id))
const q = useAlert(id)
const help = useAlertSuggestions(id)
const a = computed(() => q.data.value)
const more = ref<Schemas['Verdict'][]>([])
const next = ref<string>()
watch(id, () => (more.value = []))
watch(
  a,
  (now) => {
    if (!more.value.length) next.value = now?.next
  },
  { immediate: true },
)
const verdicts = computed(() => [...(a.value?.verdicts ?? []), ...more.value])
const starts = computed(() => verdicts.value.filter((v) => v.started || v.starts_at || v.hours_at))
const others = computed(() => verdicts.value.filter((v) => !starts.value.includes(v)))
const showMore = async () => {
  const page = await got(
    api.GET('/api/v1/alerts/{id}/triggers', {
      params: { path: { id: id.value }, query: { cursor: next.value, limit: 200 } },
    }),
  )
  more.value.push(...page.items)
  next.value = page.next
}
const named = (v: Schemas['Verdict']) =>
  v.name.startsWith('trigger/') ? v.name.slice('trigger/'.length) : `${v.runbook}/${v.name}`
const saidOtherwise = (x: { first_at: string; first_said?: string; last_at: string; last_said?: string }) =>
  [
    [x.first_at, x.first_said],
    [x.last_at, x.last_said],
  ].some(([at, said]) => said && Math.abs(Date.parse(at!) - Date.parse(said)) >= 60_000)
const decided = (v: Schemas['Verdict']) =>
  [...(v.values ?? []).map((p) => `${p.part} is ${p.text}`), v.error].filter(Boolean).join(', ')
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="a">
      <p class="faint">Alert of {{ a.source }} · {{ a.service || 'no service' }}</p>
      <h1>{{ a.summary }}</h1>
      <p class="facts">
        <StateWord :state="a.severity" />
        <StateWord :state="a.state" />
        <span class="faint num">reported {{ a.count }} times</span>
        <span class="faint">first <TimeAgo :at="a.first_at" />, last <TimeAgo :at="a.last_at" /></span>
        <span v-if="a.first_said && saidOtherwise(a)" class="faint">
          its source says first <TimeAgo :at="a.first_said" />, last <TimeAgo :at="a.last_said ?? a.first_said" />
        </span>
        <router-link v-if="a.incident" :to="`/incidents/${a.incident}`">incident {{ a.incident }}</router-link>
        <a v-if="a.link" :href="a.link" target="_blank" rel="noreferrer">at the source</a>
      </p>
      <p class="mono faint">
        {{ a.key }}
        <template v-for="(v, k) in a.labels" :key="k"> {{ k }}={{ v }}</template>
      </p>
      <p v-if="a.meant" class="note">There is no service {{ a.service }}; did you mean {{ a.meant }}?</p>
      <h2>What it started</h2>
      <p v-for="v in starts" :key="named(v)">
        ● <router-link :to="`/triggers/${named(v).replace('/', '.')}`">{{ named(v) }}</router-link>
        <template v-if="v.starts_at"> waits until <TimeAgo :at="v.starts_at" /></template>
        <template v-if="v.hours_at"> is judged again <TimeAgo :at="v.hours_at" /></template>
        <router-link v-if="v.run" :to="`/runs/${v.run}`"> {{ v.run }}</router-link>
        <span class="mono faint"> {{ decided(v) }}</span>
      </p>
      <p v-if="!starts.length">No runbook started by itself.</p>
      <template v-if="help.data.value?.runbooks.length">
        <h2>Suggested runbooks</h2>
        <p v-for="s in help.data.value.runbooks.slice(0, 4)" :key="s.runbook">
          <router-link :to="`/runbooks/${s.runbook}`">{{ s.title }}</router-link>
          <span class="faint">&nbsp;{{ s.reasons.join('; ') }}</span>
        </p>
      </template>
      <h2>Why not the others</h2>
      <table v-if="others.length" class="plain" aria-label="Why not the others">
        <tbody>
          <tr v-for="v in others" :key="named(v)">
            <td>
              <router-link :to="`/triggers/${named(v).replace('/', '.')}`">{{ named(v) }}</router-link>
            </td>
            <td class="mono faint">{{ decided(v) || 'its condition did not hold' }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="empty">There are no others.</p>
      <v-btn v-if="next" variant="tonal" size="small" @click="showMore">More triggers</v-btn>
      <template v-if="a.payload">
        <h2>
          What really came <span class="faint">{{ a.payload.content_type }}, <TimeAgo :at="a.payload.at" /></span>
        </h2>
        <pre class="mono body">{{ a.payload.body }}</pre>
      </template>
    </template>
  </div>
</template>

<style scoped>
.facts {
  display: flex;
  gap: 2px 16px;
  flex-wrap: wrap;
  margin: 4px 0;
  align-items: baseline;
}
.body {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 12.5px;
}
</style>
