<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import StateShape from './StateShape.vue'

/**
 * What would run, word for word: equal words once, numbered, each with its undo; and below the targets, with what
 * differs from one to the next as columns. What each is bound to is folded away.
 */
const props = defineProps<{
  parts: Schemas['ChangePart'][]
  folded?: boolean
  /** A single target is named beside it already. */
  bare?: boolean
}>()
const few = computed(() => (props.folded ? 3 : 6))
const all = ref(false)
const wanted = ref('')
const several = computed(() => props.parts.length > 1)

/** Parts on the same targets share one table. */
const groups = computed(() => {
  const out: { targets: string[]; parts: { no: number; part: Schemas['ChangePart'] }[] }[] = []
  props.parts.forEach((part, i) => {
    const same = out.find((g) => g.targets.join('\n') === part.targets.join('\n'))
    if (same) same.parts.push({ no: i + 1, part })
    else out.push({ targets: part.targets, parts: [{ no: i + 1, part }] })
  })
  return out
})
const named = (t: string) => t || 'the host of the service itself'
/** The columns of a group: a column of several parts with the same values stands once. */
function columns(g: (typeof groups.value)[number]) {
  const out: { title: string; cells: string[] }[] = []
  for (const { no, part } of g.parts)
    part.columns.forEach((c, i) => {
      const cells = part.rows.map((r) => r[i] ?? '')
      if (out.some((x) => x.title.replace(/^\d+: /, '') === c && x.cells.join('\n') === cells.join('\n'))) return
      out.push({ title: several.value && c.includes('⟨') ? `${no}: ${c}` : c, cells })
    })
  return out
}
function rows(g: (typeof groups.value)[number]) {
  const cols = columns(g)
  const words = wanted.value.trim().toLowerCase()
  const list = g.targets.map((t, i) => ({ target: named(t), cells: cols.map((c) => c.cells[i] ?? '') }))
  const found = words ? list.filter((r) => [r.target, ...r.cells].join(' ').toLowerCase().includes(words)) : list
  return all.value ? found : found.slice(0, few.value)
}
/** Values that stand in the words themselves are never folded away. */
const folds = (g: (typeof groups.value)[number]) => props.folded && !columns(g).some((c) => c.title.includes('⟨'))
const shown = computed(() =>
  groups.value.filter((g) => !props.bare || g.targets.length > 1 || columns(g).some((c) => c.title.includes('⟨'))),
)
const most = computed(() => Math.max(0, ...groups.value.map((g) => g.targets.length)))
</script>

<template>
  <div class="commands">
    <ol>
      <li v-for="(p, i) in parts" :key="i">
        <span v-if="several" class="no num">{{ i + 1 }}</span>
        <div>
          <p v-if="several" class="title">{{ p.title }}</p>
          <pre class="mono" tabindex="0" :aria-label="`What would run on ${p.targets.map(named).join(', ')}`">{{
            p.shown
          }}</pre>
          <p v-if="p.undo" class="undo">
            <StateShape name="undo" /> undo: <code class="mono">{{ p.undo }}</code>
          </p>
          <p v-else class="undo none">
            <StateShape name="no-undo" /> {{ p.cannot_undo ? 'cannot be undone' : 'no undo in this runbook' }}
          </p>
        </div>
      </li>
    </ol>
    <v-text-field
      v-if="all && most > 12"
      v-model="wanted"
      label="Find a target or a value"
      density="compact"
      hide-details
    />
    <component :is="folds(g) ? 'details' : 'div'" v-for="(g, n) in shown" :key="n" class="targets">
      <summary v-if="folds(g)">
        {{ g.targets.length === 1 ? named(g.targets[0] ?? '') : `${g.targets.length} targets` }}
      </summary>
      <table v-if="columns(g).length" class="rows" tabindex="0" aria-label="Targets">
        <thead>
          <tr>
            <th scope="col">Target</th>
            <th v-for="c in columns(g)" :key="c.title" scope="col">{{ c.title }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="r in rows(g)" :key="r.target">
            <th scope="row">{{ r.target }}</th>
            <td v-for="(c, i) in r.cells" :key="i" class="mono">{{ c }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="on">
        on
        {{
          rows(g)
            .map((r) => r.target)
            .join(', ')
        }}<template v-if="!all && g.targets.length > few"> and {{ g.targets.length - few }} more</template>
      </p>
      <v-btn v-if="g.targets.length > few" size="small" variant="text" @click="all = !all">{{
        all ? 'Fewer' : `All ${g.targets.length} targets`
      }}</v-btn>
    </component>
  </div>
</template>

<style scoped>
ol {
  list-style: none;
  padding: 0;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 4px;
}
li {
  display: flex;
  gap: 10px;
  padding: 6px 12px;
}
li + li {
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.14);
}
li > div {
  flex: 1;
  min-width: 0;
}
.no {
  font-weight: 650;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
.title {
  font-size: 12px;
  line-height: 16px;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
pre {
  display: inline-block;
  max-width: 100%;
  margin: 0;
  background: rgba(var(--v-theme-on-surface), 0.06);
  padding: 3px 8px;
  border-radius: 3px;
  max-height: 132px;
  overflow: auto;
  font-size: 13px;
  font-weight: 600;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  vertical-align: top;
}
.undo {
  font-size: 12px;
  line-height: 18px;
  margin-top: 2px;
  overflow-wrap: anywhere;
}
.undo.none {
  font-weight: 600;
  color: rgb(var(--v-theme-error));
}
.undo code {
  font-size: 12px;
}
.targets {
  margin-top: 6px;
}
.on {
  font-size: 13px;
  overflow-wrap: anywhere;
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
.rows thead th {
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.76);
}
.rows td {
  padding: 3px 16px 3px 0;
  white-space: nowrap;
}
@media (max-width: 700px) {
  li {
    padding: 3px 8px;
  }
  pre {
    max-height: 66px;
  }
  .targets {
    margin-top: 0;
  }
  .targets summary {
    line-height: 18px;
  }
  .undo,
  .undo code {
    font-size: 11.5px;
    line-height: 16px;
    letter-spacing: -0.02em;
  }
  .title {
    display: none;
  }
}
</style>
