<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'

// What would run, word for word: equal words once, and what differs by target as columns.
const props = defineProps<{ part: Schemas['ChangePart']; several: boolean }>()

const few = 6
const all = ref(false)
const wanted = ref('')
const rows = computed(() => {
  const words = wanted.value.trim().toLowerCase()
  const list = props.part.targets.map((target, i) => ({
    target: target || 'this host',
    cells: props.part.rows[i] ?? [],
  }))
  const found = words ? list.filter((r) => [r.target, ...r.cells].join(' ').toLowerCase().includes(words)) : list
  return all.value ? found : found.slice(0, few)
})
const folded = computed(() => props.part.targets.length - few)
// One target needs no table: its values stand in the words, or beside them.
const table = computed(() => props.part.columns.length > 0)
const names = computed(() => props.part.targets.map((t) => t || 'this host'))
</script>

<template>
  <div class="part">
    <p v-if="several" class="title">{{ part.title }}</p>
    <pre class="mono" tabindex="0" :aria-label="`What would run on ${part.targets.join(', ') || 'this host'}`">{{
      part.shown
    }}</pre>
    <p class="undo">
      <template v-if="part.undo"
        ><span aria-hidden="true">↶</span> undo: <code class="mono">{{ part.undo }}</code></template
      >
      <strong v-else class="none"><span aria-hidden="true">⊘</span> no undo</strong>
    </p>
    <v-text-field
      v-if="all && part.targets.length > 12"
      v-model="wanted"
      label="Find a target or a value"
      density="compact"
      hide-details
    />
    <table v-if="table" class="rows" tabindex="0">
      <thead>
        <tr>
          <th scope="col">target</th>
          <th v-for="c in part.columns" :key="c" scope="col">{{ c }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.target">
          <th scope="row">{{ r.target }}</th>
          <td v-for="(c, i) in r.cells" :key="i" class="mono">{{ c }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else class="on">
      on {{ all ? names.join(', ') : names.slice(0, few).join(', ')
      }}<template v-if="!all && folded > 0"> and {{ folded }} more</template>
    </p>
    <v-btn v-if="folded > 0" size="small" variant="text" @click="all = !all">{{
      all ? 'Fewer' : `All ${part.targets.length} targets`
    }}</v-btn>
    <details class="bound">
      <summary>Approval is void if any of these change</summary>
      <table v-if="part.where_columns?.length" class="rows" tabindex="0">
        <thead>
          <tr>
            <th scope="col">target</th>
            <th v-for="c in part.where_columns" :key="c" scope="col">{{ c }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, n) in part.where" :key="n">
            <th scope="row">{{ names[n] }}</th>
            <td v-for="(c, i) in r" :key="i" class="mono">{{ c }}</td>
          </tr>
        </tbody>
      </table>
      <dl>
        <template v-for="b in part.bound" :key="b.name">
          <dt>{{ b.name }}</dt>
          <dd class="mono">{{ b.value }}</dd>
        </template>
      </dl>
    </details>
  </div>
</template>

<style scoped>
.part {
  margin-bottom: 8px;
}
.title {
  font-weight: 550;
}
pre {
  margin: 2px 0;
  background: rgba(var(--v-theme-on-surface), 0.06);
  padding: 6px 10px;
  border-radius: 3px;
  max-height: 132px;
  overflow: auto;
  font-size: 13px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.undo {
  margin: 3px 0;
  overflow-wrap: anywhere;
}
.none {
  font-weight: 600;
}
.rows {
  border-collapse: collapse;
  line-height: 1.4;
  max-width: 100%;
  display: block;
  overflow-x: auto;
}
.rows th {
  text-align: left;
  font-weight: 550;
  padding-right: 14px;
  white-space: nowrap;
}
.rows thead th {
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.68);
}
.rows td {
  padding-right: 14px;
  white-space: nowrap;
}
.bound summary {
  padding: 4px 0;
  cursor: pointer;
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.72);
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
@media (max-width: 700px) {
  pre {
    max-height: 66px;
  }
}
</style>
