<script setup lang="ts">
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'

import { api, got, type Schemas } from '../api/client'
import IncidentRows from '../components/IncidentRows.vue'
import { useIncidents } from '../composables/data'

const text = ref('')
const state = ref<'open' | 'resolved' | null>(null)
const severity = ref<string | null>(null)
const words = refDebounced(text, 300)
const narrowed = computed(() => ({
  text: words.value.trim() || undefined,
  state: state.value ?? undefined,
  severity: severity.value ?? undefined,
}))
const first = useIncidents(undefined, 25, narrowed)
const more = ref<Schemas['Incident'][]>([])
const next = ref<string>()
watch(narrowed, () => (more.value = []))
watch(
  first.data,
  (d) => {
    if (!more.value.length) next.value = d?.next
  },
  { immediate: true },
)

async function older() {
  const query = { ...narrowed.value, limit: 25, cursor: next.value }
  const p = await got(api.GET('/api/v1/incidents', { params: { query } }))
  more.value.push(...p.items)
  next.value = p.next
}
const some = computed(() => !!(narrowed.value.text || narrowed.value.state || narrowed.value.severity))
</script>

<template>
  <div class="page">
    <h1>Incidents</h1>
    <form class="narrow" role="search" @submit.prevent>
      <v-text-field
        v-model="text"
        label="Search titles, reasons, alerts and notes"
        placeholder='pump or lamp, "ramp 2", -test'
        hide-details
        clearable
        maxlength="200"
      />
      <v-select v-model="state" :items="['open', 'resolved']" label="State" hide-details clearable />
      <v-select
        v-model="severity"
        :items="['critical', 'major', 'minor', 'warning']"
        label="Severity"
        hide-details
        clearable
      />
    </form>
    <IncidentRows
      v-if="first.data.value?.items.length"
      :items="[...first.data.value.items, ...more]"
      label="Incidents"
    />
    <p v-else-if="first.isSuccess.value && some" class="empty">No incident is like that.</p>
    <p v-else-if="first.isSuccess.value" class="empty">
      No incident was ever opened. Add a source of alerts with <code class="mono">urgentis source add NAME</code>.
    </p>
    <p v-if="first.error.value" role="alert">{{ first.error.value.message }}</p>
    <v-btn v-if="next" class="mt-4" @click="older">Older ones</v-btn>
  </div>
</template>

<style scoped>
.narrow {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 160px 160px;
  gap: 12px;
  margin: 8px 0 18px;
}
@media (max-width: 700px) {
  .narrow {
    grid-template-columns: 1fr;
  }
}
</style>
