<script setup lang="ts">
import type { Schemas } from '../api/client'
import IncidentStrip from './IncidentStrip.vue'
import StateWord from './StateWord.vue'
import TimeAgo from './TimeAgo.vue'

defineProps<{ items: Schemas['Incident'][]; label: string }>()
const state = (i: Schemas['Incident']) =>
  i.state === 'closed' ? (i.outcome ?? 'closed') : i.waiting_on && i.waiting_on !== 'nobody' ? i.waiting_on : 'open'
</script>

<template>
  <table class="plain" :aria-label="label">
    <thead>
      <tr>
        <th>No.</th>
        <th>Severity</th>
        <th>Incident</th>
        <th>State</th>
        <th class="wide">Opened</th>
        <th class="wide strip">Timeline</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="i in items" :key="i.number">
        <td class="num">{{ i.number }}</td>
        <td><StateWord :state="i.severity" /></td>
        <td>
          <router-link :to="`/incidents/${i.number}`">{{ i.title }}</router-link>
          <div class="faint">
            {{ i.service }}<template v-if="i.because"> · {{ i.because }}</template>
          </div>
        </td>
        <td><StateWord :state="state(i)" /></td>
        <td class="wide faint"><TimeAgo :at="i.opened_at" /></td>
        <td class="wide strip"><IncidentStrip v-if="i.strip" :strip="i.strip" :open="i.state === 'open'" small /></td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.strip {
  width: 240px;
}
td {
  overflow-wrap: anywhere;
}
</style>
