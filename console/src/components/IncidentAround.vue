<script setup lang="ts">
import type { Schemas } from '../api/client'
import { useAttachments } from '../composables/data'
import { useSession } from '../composables/session'
import AroundPanel from './AroundPanel.vue'
import BackPanel from './BackPanel.vue'
import StateWord from './StateWord.vue'

/** What stands around an incident: how wide it is, what changed before it, what outside stores have, its alerts, files. */
const props = defineProps<{ incident: Schemas['Incident']; alerts: Schemas['IncidentDetail']['alerts'] }>()
const session = useSession()
const files = useAttachments(() => props.incident.number)
</script>

<template>
  <AroundPanel :number="incident.number" :service="incident.service" />
  <BackPanel :number="incident.number" :may="session.may('responder')" />
  <details v-if="alerts.length" class="alerts" :open="alerts.length < 4">
    <summary>
      {{ alerts.length === 1 ? 'Its alert' : `Its ${incident.alerts ?? alerts.length} alerts` }}
    </summary>
    <p v-for="x in alerts.slice(0, 200)" :key="x.id">
      <StateWord :state="x.severity" /> <router-link :to="`/alerts/${x.id}`">{{ x.summary }}</router-link>
      <span class="faint">{{ x.state }}, {{ x.count === 1 ? 'once' : `${x.count} times` }}, from {{ x.source }}</span>
    </p>
    <p v-if="alerts.length > 200" class="faint">The first 200 of them.</p>
  </details>
  <p v-if="files.data.value?.length" class="alerts">
    <template v-for="f in files.data.value" :key="f.id">
      <a v-if="f.kind === 'link'" :href="f.url" target="_blank" rel="noreferrer">{{ f.name }}</a>
      <a v-else :href="`/api/v1/incidents/${incident.number}/files/${f.id}`" download>{{ f.name }}</a>
      <span class="faint"> by {{ f.added_by }}</span
      >&ensp;
    </template>
  </p>
</template>

<style scoped>
.alerts {
  margin: 12px 0;
}
.alerts p {
  margin: 2px 0;
}
.alerts p > * {
  margin-right: 8px;
}
.alerts summary {
  padding: 4px 0;
  cursor: pointer;
}
</style>
