<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

/** What an approval is bound to besides the words that are shown: where any of it changes, it is void. */
const props = defineProps<{ parts: Schemas['ChangePart'][] }>()
const several = computed(() => props.parts.length > 1)
const named = (t: string) => t || 'the host of the service itself'
</script>

<template>
  <details class="bound">
    <summary>Approval is void if any of these change</summary>
    <template v-for="(p, i) in parts" :key="i">
      <p v-if="several" class="title">{{ p.title }}</p>
      <table v-if="p.where_columns?.length" class="rows" tabindex="0" :aria-label="`Bound to, of ${p.title}`">
        <thead>
          <tr>
            <th scope="col">Target</th>
            <th v-for="c in p.where_columns" :key="c" scope="col">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, k) in p.where" :key="k">
            <th scope="row">{{ named(p.targets[k] ?? '') }}</th>
            <td v-for="(c, j) in r" :key="j" class="mono">{{ c }}</td>
          </tr>
        </tbody>
      </table>
      <dl>
        <template v-for="b in p.bound" :key="b.name">
          <dt>{{ b.name }}</dt>
          <dd class="mono">{{ b.value }}</dd>
        </template>
      </dl>
    </template>
  </details>
</template>

<style scoped>
.title {
  font-size: 12px;
  font-weight: 600;
  margin-top: 4px;
}
.rows {
  border-collapse: collapse;
  font-size: 13px;
  line-height: 18px;
  max-width: 100%;
  display: block;
  overflow-x: auto;
}
.rows th {
  text-align: left;
  font-weight: 600;
  padding: 3px 16px 3px 0;
  white-space: nowrap;
}
.rows td {
  padding: 3px 16px 3px 0;
  white-space: nowrap;
}
.bound summary {
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
dl {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0 14px;
}
dd {
  margin: 0;
  overflow-wrap: anywhere;
}
</style>
