<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { span } from '../composables/clock'
import { useCounted, type Reported } from '../composables/report'
import StateWord from './StateWord.vue'

/** The incidents that a figure of the report counts. */
const props = defineProps<{ counted: { figure: Schemas['FigureName']; of?: string; title: string }; which: Reported }>()
const emit = defineEmits<{ close: [] }>()
const q = useCounted(
  () => props.which,
  () => props.counted,
)
const rows = computed(() => q.data.value ?? [])
const took = (from?: string, until?: string) => (from && until ? span(Date.parse(until) - Date.parse(from)) : '–')
const day = (at: string) => at.slice(0, 10)
</script>

<template>
  <v-dialog :model-value="true" max-width="1000" scrollable @update:model-value="emit('close')">
    <v-card>
      <v-card-title class="head">
        <h2>{{ counted.title }}: {{ q.isSuccess.value ? rows.length : '…' }}</h2>
        <v-btn variant="text" @click="emit('close')">Close</v-btn>
      </v-card-title>
      <v-card-text tabindex="0" role="region" aria-label="Incidents that are counted">
        <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
        <p v-else-if="q.isSuccess.value && !rows.length" class="empty">It counts no incident.</p>
        <table v-else-if="rows.length" class="plain" aria-label="Incidents that are counted">
          <thead>
            <tr>
              <th>No.</th>
              <th>Incident</th>
              <th>Outcome</th>
              <th class="wide">Closed</th>
              <th class="r">Evidence</th>
              <th class="r">Decision</th>
              <th class="r">Recovery</th>
              <th class="wide">People</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="f in rows" :key="f.number">
              <td class="num">{{ f.number }}</td>
              <td>
                <router-link :to="`/incidents/${f.number}`">{{ f.title }}</router-link>
                <div class="faint">{{ f.service }}</div>
              </td>
              <td><StateWord :state="f.outcome" /></td>
              <td class="wide num">{{ day(f.closed) }}</td>
              <td class="r num">{{ took(f.opened, f.evidence) }}</td>
              <td class="r num">{{ took(f.asked, f.decided) }}</td>
              <td class="r num">{{ took(f.opened, f.recovered) }}</td>
              <td class="wide">{{ f.people.join(', ') || '–' }}</td>
            </tr>
          </tbody>
        </table>
      </v-card-text>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
.r {
  text-align: right;
}
td {
  overflow-wrap: anywhere;
}
</style>
