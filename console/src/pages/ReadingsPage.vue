<script setup lang="ts">
import { computed, ref } from 'vue'

import TimeAgo from '../components/TimeAgo.vue'
import { useReadings } from '../composables/data'
import SetupTable from '../setup/SetupTable.vue'

/** What was read last, of every service and target. */
const service = ref('')
const q = useReadings(service)
const services = computed(() => [...new Set((q.data.value ?? []).map((r) => r.service))])
const value = (r: { value?: number; said?: string; unit?: string }) =>
  `${r.value === undefined ? (r.said ?? '') : +r.value.toPrecision(6)} ${r.unit ?? ''}`.trim()
</script>

<template>
  <div class="page">
    <h1>Readings</h1>
    <v-select
      v-if="services.length > 1 || service"
      v-model="service"
      class="of"
      label="Service"
      :items="[{ title: 'all services', value: '' }, ...services]"
      density="compact"
      hide-details
    />
    <SetupTable
      label="Readings"
      :rows="q.data.value"
      :error="q.error.value?.message"
      empty="Nothing was read yet. A runbook's look or a scheduled look leaves readings here."
      :columns="[
        { title: 'Service', key: 'service', value: (r) => r.service },
        { title: 'Reading', key: 'name', value: (r) => r.name },
        { title: 'Target', key: 'target', value: (r) => r.target ?? '' },
        { title: 'Value', key: 'value', value },
        { title: 'Read', key: 'at', value: (r) => r.at },
        { title: 'Better', key: 'good', value: (r) => r.good ?? '', wide: true },
      ]"
    >
      <template #service="{ row }"
        ><router-link :to="`/services/${row.service}`">{{ row.service }}</router-link></template
      >
      <template #value="{ row }"
        ><span class="mono">{{ value(row) }}</span></template
      >
      <template #at="{ row }"><TimeAgo :at="row.at" /></template>
    </SetupTable>
  </div>
</template>

<style scoped>
.of {
  max-width: 260px;
  margin: 8px 0;
}
</style>
