<script setup lang="ts">
import { computed } from 'vue'

import TimeAgo from '../components/TimeAgo.vue'
import { useSources, useUnread } from '../composables/data'
import { useSession } from '../composables/session'

const session = useSession()
const q = useSources()
const unread = useUnread(undefined, session.may('admin'))
const count = computed(() => {
  const by = new Map<string, number>()
  for (const u of unread.data.value ?? []) by.set(u.source, (by.get(u.source) ?? 0) + 1)
  return by
})
</script>

<template>
  <div class="page">
    <h1>Sources</h1>
    <table v-if="q.data.value?.length" class="plain" aria-label="Sources">
      <thead>
        <tr>
          <th>Source</th>
          <th>Last alert</th>
          <th v-if="session.may('admin')">Unread</th>
          <th class="wide">Told back at</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in q.data.value" :key="s.name">
          <td>
            <router-link :to="`/sources/${s.name}`">{{ s.name }}</router-link>
          </td>
          <td>
            <TimeAgo v-if="s.last_alert_at" :at="s.last_alert_at" />
            <span v-else class="faint">never</span>
          </td>
          <td v-if="session.may('admin')" class="num">
            <strong v-if="count.get(s.name)" class="some">◇ {{ count.get(s.name) }} cannot be read</strong>
            <span v-else class="faint">none</span>
          </td>
          <td class="wide mono faint">{{ s.call_back }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">
      Nothing reports yet. Add a source with <code class="mono">urgentis source add NAME</code>.
    </p>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
  </div>
</template>

<style scoped>
.some {
  color: rgb(var(--v-theme-warning));
  font-weight: 600;
}
</style>
