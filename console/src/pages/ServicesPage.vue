<script setup lang="ts">
import { computed } from 'vue'

import { useIncidents, useObjectives, useServices } from '../composables/data'
import { percent, standing } from '../composables/objective'

const services = useServices()
const objectives = useObjectives()
const incidents = useIncidents('open', 200)
const rows = computed(() =>
  (services.data.value ?? [])
    .map((s) => {
      const its = (objectives.data.value ?? []).filter((o) => o.service === s.name)
      const worst = its.map(standing).sort((a, b) => a.rank - b.rank)[0]
      const open = (incidents.data.value?.items ?? []).filter((i) => i.service === s.name)
      return { s, its, worst, open }
    })
    .sort(
      (a, b) =>
        b.open.length - a.open.length ||
        (a.worst?.rank ?? 9) - (b.worst?.rank ?? 9) ||
        a.s.name.localeCompare(b.s.name),
    ),
)
</script>

<template>
  <div class="page">
    <h1>Services</h1>
    <table v-if="rows.length" class="plain" aria-label="Services">
      <thead>
        <tr>
          <th>Service</th>
          <th>Open</th>
          <th>Objectives</th>
          <th class="num wide">Left of the budget</th>
          <th class="wide">Owner</th>
          <th class="wide">Needs</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.s.name">
          <td>
            <router-link :to="`/services/${r.s.name}`">{{ r.s.title || r.s.name }}</router-link>
            <div class="faint mono">{{ r.s.name }}</div>
          </td>
          <td>
            <router-link v-for="i in r.open.slice(0, 3)" :key="i.number" :to="`/incidents/${i.number}`" class="gap">
              {{ i.number }}
            </router-link>
            <span v-if="r.open.length > 3" class="faint">and {{ r.open.length - 3 }} more</span>
            <span v-if="!r.open.length" class="faint">none</span>
          </td>
          <td :class="{ wrong: r.worst?.bad, faint: !r.worst }">{{ r.worst?.word ?? 'none' }}</td>
          <td class="num wide">
            <div v-for="o in r.its" :key="o.name">{{ percent(o.left) }}</div>
          </td>
          <td class="wide">{{ r.s.owner }}</td>
          <td class="wide faint">{{ (r.s.depends_on ?? []).join(', ') }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="services.isSuccess.value" class="empty">
      No services yet. Add one: <code class="mono">urgentis service set NAME --owner TEAM</code>
    </p>
    <p v-if="services.error.value" role="alert" class="empty">{{ services.error.value.message }}</p>
  </div>
</template>

<style scoped>
.gap {
  margin-right: 8px;
}
</style>
