<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

// What one item of a payload would become, field by field, and what that would start.
const props = defineProps<{ item: Schemas['SourceTryItem']; title: string }>()
const starts = computed(() => props.item.verdicts.filter((v) => v.started))
const others = computed(() => props.item.verdicts.filter((v) => !v.started))
const decided = (v: Schemas['Verdict']) =>
  [...(v.values ?? []).map((p) => `${p.part} is ${p.text}`), v.error].filter(Boolean).join(', ')
</script>

<template>
  <section :aria-label="title">
    <h3>{{ title }}</h3>
    <p v-if="item.ignored" class="faint">ignored, as the source says</p>
    <p v-if="item.unparsed" class="unparsed">cannot be read: {{ item.unparsed }}</p>
    <table v-if="item.made.length" class="plain" :aria-label="`${title}, field by field`">
      <thead>
        <tr>
          <th>Field</th>
          <th>Becomes</th>
          <th>Made by</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="m in item.made" :key="m.field">
          <td class="field">{{ m.field }}</td>
          <td>{{ m.value || '(empty)' }}</td>
          <td class="mono faint">{{ m.from }}</td>
        </tr>
      </tbody>
    </table>
    <template v-if="item.report">
      <p v-if="item.report.severity === 'cleared'" class="faint">It ends the alert with this key, if there is one.</p>
      <template v-else>
        <p v-for="v in starts" :key="`${v.runbook}/${v.name}`" class="starts">
          ● would start <router-link :to="`/runbooks/${v.runbook}`">{{ v.runbook }}</router-link> ({{ v.name }}):
          <span class="mono faint">{{ decided(v) }}</span>
        </p>
        <p v-if="!starts.length">No runbook would start by itself.</p>
        <details v-if="others.length">
          <summary>Why not the other {{ others.length }}</summary>
          <p v-for="v in others" :key="`${v.runbook}/${v.name}`">
            {{ v.runbook }} ({{ v.name }}): <span class="mono faint">{{ decided(v) }}</span>
          </p>
        </details>
      </template>
    </template>
  </section>
</template>

<style scoped>
section {
  margin-bottom: 22px;
}
h3 {
  font-size: 14px;
  font-weight: 650;
}
.field {
  font-weight: 550;
  white-space: nowrap;
}
td {
  overflow-wrap: anywhere;
}
.unparsed {
  color: rgb(var(--v-theme-warning));
}
.starts {
  margin-top: 6px;
}
summary {
  cursor: pointer;
}
</style>
