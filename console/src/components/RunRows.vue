<script setup lang="ts">
import type { Schemas } from '../api/client'
import StateWord from './StateWord.vue'
import TimeAgo from './TimeAgo.vue'

defineProps<{ items: Schemas['Run'][]; label: string }>()
</script>

<template>
  <table class="plain" :aria-label="label">
    <thead>
      <tr>
        <th>Runbook</th>
        <th>State</th>
        <th class="wide">Started by</th>
        <th>Started</th>
        <th>Incident</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in items" :key="r.id">
        <td>
          <router-link :to="`/runs/${r.id}`">{{ r.title || r.runbook }}</router-link>
          <div class="faint mono">{{ r.id }}</div>
        </td>
        <td>
          <StateWord
            :state="r.waits_on && r.waits_on !== 'time' ? r.waits_on : r.waits_on === 'time' ? 'running' : r.state"
          />
          <div v-if="r.awaits" class="faint">
            for <router-link :to="`/runs/${r.awaits}`" class="mono">{{ r.awaits }}</router-link>
          </div>
        </td>
        <td class="wide faint">{{ r.started_by }}</td>
        <td class="faint"><TimeAgo :at="r.begun_at" /></td>
        <td>
          <router-link v-if="r.incident" :to="`/incidents/${r.incident}`">{{ r.incident }}</router-link><span
            v-else
            class="faint"
            >none</span
          >
        </td>
      </tr>
    </tbody>
  </table>
</template>
