<script setup lang="ts">
import type { Schemas } from '../api/client'
import { relative, useClock } from '../composables/clock'

// Evidence with equal values of several targets said once, its age, and a mark where it is old.
defineProps<{ facts: Schemas['EvidenceGroup'][] }>()
const now = useClock()
const names = (list?: string[]) => {
  const all = (list ?? []).map((t) => t || 'this host')
  return all.length > 4 ? `${all.slice(0, 3).join(', ')} and ${all.length - 3} more` : all.join(', ')
}
</script>

<template>
  <table>
    <tbody>
      <tr v-for="(f, i) in facts" :key="i">
        <th scope="row">{{ i && facts[i - 1]?.reading === f.reading ? '' : f.reading }}</th>
        <td :title="(f.targets ?? []).join(', ')">{{ names(f.targets) }}</td>
        <td class="mono">{{ f.value === '' ? '(empty)' : f.value }} {{ f.unit }}</td>
        <td class="faint num">{{ f.stale ? 'old: ' : '' }}{{ relative(f.at, now) }}</td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
table {
  border-collapse: collapse;
  line-height: 1.4;
}
th {
  text-align: left;
  font-weight: 550;
  padding-right: 14px;
  vertical-align: top;
}
td {
  padding-right: 14px;
  vertical-align: top;
  overflow-wrap: anywhere;
}
</style>
