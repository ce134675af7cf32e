<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

/** What a service needs, and what needs it, with the open incidents of each. */
const props = defineProps<{ name: string; services: Schemas['Service'][]; open: Schemas['Incident'][] }>()

const stateOf = (name: string) => {
  const its = props.open.filter((i) => i.service === name)
  const first = its[0]
  if (!first) return { bad: false, says: 'no open incident' }
  return {
    bad: true,
    says: its.length > 1 ? `${its.length} open incidents` : `incident ${first.number}, ${first.severity}`,
  }
}
const box = (name: string) => ({ name, ...stateOf(name) })
const needs = computed(() => (props.services.find((s) => s.name === props.name)?.depends_on ?? []).map(box))
const neededBy = computed(() =>
  props.services.filter((s) => s.depends_on?.includes(props.name)).map((s) => box(s.name)),
)
const own = computed(() => box(props.name))
const rowHeight = 58
const height = computed(() => Math.max(needs.value.length, neededBy.value.length, 1) * rowHeight)
/** The middle of the nth of so many boxes. */
const middle = (n: number, of: number) => height.value / 2 + (n - (of - 1) / 2) * rowHeight
const curve = (from: number, to: number) => `M0 ${from} C 28 ${from} 22 ${to} 50 ${to}`
</script>

<template>
  <div v-if="needs.length || neededBy.length" class="picture">
    <ul v-if="needs.length" class="column" aria-label="Needs">
      <li v-for="b in needs" :key="b.name">
        <router-link :to="`/services/${b.name}`" class="box" :class="{ bad: b.bad }"
          ><strong>{{ b.name }}</strong
          ><span>{{ b.says }}</span></router-link
        >
      </li>
    </ul>
    <svg v-if="needs.length" class="lines" width="50" :height="height" aria-hidden="true">
      <path v-for="(b, i) in needs" :key="b.name" :d="curve(middle(i, needs.length), height / 2)" />
    </svg>
    <div class="column">
      <div class="box own" :class="{ bad: own.bad }">
        <strong>{{ name }}</strong><span>{{ own.says }}</span>
      </div>
    </div>
    <svg v-if="neededBy.length" class="lines" width="50" :height="height" aria-hidden="true">
      <path v-for="(b, i) in neededBy" :key="b.name" :d="curve(height / 2, middle(i, neededBy.length))" />
    </svg>
    <ul v-if="neededBy.length" class="column" aria-label="Needed by">
      <li v-for="b in neededBy" :key="b.name">
        <router-link :to="`/services/${b.name}`" class="box" :class="{ bad: b.bad }"
          ><strong>{{ b.name }}</strong
          ><span>{{ b.says }}</span></router-link
        >
      </li>
    </ul>
  </div>
  <p v-else class="faint">It needs no other service, and none needs it, as far as is stated.</p>
</template>

<style scoped>
.picture {
  display: flex;
  align-items: center;
  max-width: 560px;
}
.column {
  flex: 1;
  min-width: 0;
  list-style: none;
  padding: 0;
  margin: 0;
}
.box {
  display: flex;
  flex-direction: column;
  justify-content: center;
  height: 46px;
  margin: 6px 0;
  padding: 0 10px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.22);
  border-radius: 4px;
  background: rgb(var(--v-theme-surface));
  font-size: 12.5px;
  line-height: 17px;
  color: inherit;
  text-decoration: none;
}
.box > * {
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
.box.bad {
  border: 2px solid rgb(var(--v-theme-error));
}
a.box:hover strong {
  text-decoration: underline;
}
.lines {
  flex: none;
}
.lines path {
  fill: none;
  stroke: rgba(var(--v-theme-on-surface), 0.5);
}
@media (max-width: 700px) {
  .picture {
    flex-direction: column;
    align-items: stretch;
  }
  .lines {
    display: none;
  }
  ul.column::before {
    content: attr(aria-label);
    font-size: 12.5px;
  }
}
</style>
