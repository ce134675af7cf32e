<script setup lang="ts">
import { ref, watch } from 'vue'

import { api, got, type Schemas } from '../api/client'
import IncidentRows from '../components/IncidentRows.vue'
import { useIncidents } from '../composables/data'

const first = useIncidents(undefined, 25)
const more = ref<Schemas['Incident'][]>([])
const next = ref<string>()
watch(
  first.data,
  (d) => {
    if (!more.value.length) next.value = d?.next
  },
  { immediate: true },
)

async function older() {
  const p = await got(api.GET('/api/v1/incidents', { params: { query: { limit: 25, cursor: next.value } } }))
  more.value.push(...p.items)
  next.value = p.next
}
</script>

<template>
  <div class="page">
    <h1>Incidents</h1>
    <IncidentRows
      v-if="first.data.value?.items.length"
      :items="[...first.data.value.items, ...more]"
      label="Incidents"
    />
    <p v-else-if="first.isSuccess.value" class="empty">
      No incident was ever opened. Add a source of alerts with <code class="mono">urgentis source add NAME</code>.
    </p>
    <p v-if="first.error.value" role="alert">{{ first.error.value.message }}</p>
    <v-btn v-if="next" class="mt-4" @click="older">Older ones</v-btn>
  </div>
</template>
