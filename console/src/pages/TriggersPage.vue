<script setup lang="ts">
import TimeAgo from '../components/TimeAgo.vue'
import { useTriggers } from '../composables/data'

const q = useTriggers()
const held = (l: Record<string, number>) => (l.back ?? 0) + (l.refused ?? 0) + (l.already ?? 0)
</script>

<template>
  <div class="page">
    <h1>Triggers</h1>
    <table v-if="q.data.value?.length" class="plain" aria-label="Triggers">
      <thead>
        <tr>
          <th>Trigger</th>
          <th>Starts when</th>
          <th class="wide">Next</th>
          <th>Last</th>
          <th class="num wide">Started in a day</th>
          <th class="num wide">Suppressed</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="t in q.data.value" :key="t.name">
          <td>
            <router-link :to="`/triggers/${t.name.replace('/', '.')}`">{{ t.name }}</router-link>
            <p class="faint">starts {{ t.runbook }}</p>
            <p v-if="t.off" class="some">switched off by {{ t.off.by }}: {{ t.off.because }}</p>
          </td>
          <td>
            <p v-for="(s, i) in t.says" :key="i" :class="{ mono: i === 0 && s.includes('alert.'), faint: i > 0 }">
              {{ s }}
            </p>
          </td>
          <td class="wide"><TimeAgo v-if="t.next_at" :at="t.next_at" /></td>
          <td><TimeAgo v-if="t.last_at" :at="t.last_at" /><span v-else class="faint">none in 24 h</span></td>
          <td class="num wide">{{ t.lately.started ?? 0 }}</td>
          <td class="num wide" :class="{ some: (t.lately.refused ?? 0) > 0 }">{{ held(t.lately) }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">
      Nothing starts by itself yet. A runbook's <code class="mono">starts:</code> are triggers, and documents of kind
      trigger stand beside it.
    </p>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
  </div>
</template>

<style scoped>
td p {
  margin: 0;
}
.some {
  color: rgb(var(--v-theme-warning));
  font-weight: 600;
}
</style>
