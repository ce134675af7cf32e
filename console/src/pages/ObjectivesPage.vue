<script setup lang="ts">
import { computed } from 'vue'

import { useObjectives } from '../composables/data'
import { burnSays, percent, standing } from '../composables/objective'
import SetupTable from '../setup/SetupTable.vue'

/** What services are measured against, those that are missed first. */
const q = useObjectives()
const rows = computed(() => q.data.value && [...q.data.value].sort((a, b) => standing(a).rank - standing(b).rank))
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>Objectives</h1>
      <v-btn size="small" to="/documents/objective">Add an objective</v-btn>
    </header>
    <SetupTable
      label="Objectives"
      :rows="rows"
      :error="q.error.value?.message"
      empty="No objective yet. One says which share of the time a service is to be good, and raises alerts as it is missed."
      :columns="[
        { title: 'Objective', key: 'title', value: (o) => o.title || o.name },
        { title: 'Service', key: 'service', value: (o) => o.service },
        { title: 'Stands', key: 'state', value: (o) => standing(o).word },
        { title: 'Good', key: 'share', value: (o) => percent(o.share) },
        { title: 'Target', key: 'says', value: (o) => o.says, wide: true },
        { title: 'Budget left', key: 'left', value: (o) => percent(o.left) },
        { title: 'Burn rate', key: 'burns', value: (o) => burnSays(o), wide: true },
      ]"
    >
      <template #service="{ row }"
        ><router-link :to="`/services/${row.service}`">{{ row.service }}</router-link></template
      >
      <template #state="{ row }"
        ><strong :class="{ bad: standing(row).bad }">{{ standing(row).word }}</strong></template
      >
      <template #acts="{ row }">
        <v-btn size="small" variant="text" :to="`/documents/objective/${row.name}`">Document</v-btn>
      </template>
    </SetupTable>
  </div>
</template>

<style scoped>
.bad {
  color: rgb(var(--v-theme-error));
}
</style>
