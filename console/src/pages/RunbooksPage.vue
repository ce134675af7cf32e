<script setup lang="ts">
import { computed, ref } from 'vue'

import TimeAgo from '../components/TimeAgo.vue'
import { useRunbooks } from '../composables/data'

const q = useRunbooks()
const find = ref('')
const items = computed(() => {
  const f = find.value.toLowerCase().trim()
  return (q.data.value ?? []).filter(
    (r) =>
      !f || [r.name, r.title, r.owner, r.service, r.about ?? '', ...r.tags].some((x) => x.toLowerCase().includes(f)),
  )
})
</script>

<template>
  <div class="page">
    <div class="top">
      <h1>Runbooks <router-link class="library" to="/library">the library has more</router-link></h1>
      <v-text-field v-model="find" label="Find" density="compact" hide-details clearable class="find" />
    </div>
    <table v-if="items.length" class="plain" aria-label="Runbooks">
      <thead>
        <tr>
          <th>Runbook</th>
          <th>Service</th>
          <th class="wide">Owner</th>
          <th class="wide">Tags</th>
          <th>Starts on</th>
          <th class="wide">Pushed</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in items" :key="r.name">
          <td>
            <router-link :to="`/runbooks/${r.name}`">{{ r.title }}</router-link>
            <div class="faint mono">{{ r.name }}</div>
          </td>
          <td>{{ r.service }}</td>
          <td class="wide">{{ r.owner }}</td>
          <td class="wide faint">{{ r.tags.join(', ') }}</td>
          <td>
            <div v-for="s in r.starts" :key="s" class="mono cond">{{ s }}</div>
            <span v-if="!r.starts.length" class="faint">by hand only</span>
          </td>
          <td class="wide faint">rev {{ r.number }}, <TimeAgo :at="r.pushed_at" /> by {{ r.pushed_by }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">
      <template v-if="find">No runbook has “{{ find }}” in it.</template
      ><template v-else>No runbooks yet. Push one with <code class="mono">urgentis runbook push FILE</code>.</template>
    </p>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
  </div>
</template>

<style scoped>
.top {
  display: flex;
  justify-content: space-between;
  align-items: center;
  margin-bottom: 8px;
}
.find {
  max-width: 260px;
}
.library {
  font-size: 14px;
  font-weight: 400;
  margin-left: 10px;
}
.cond {
  max-width: 380px;
  overflow-wrap: anywhere;
}
</style>
