<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import StateShape from './StateShape.vue'

/** What cannot be undone of what would run, and what is lost by it, as the author says it or does not. */
const props = defineProps<{ parts: Schemas['ChangePart'][] }>()
const risks = computed(() =>
  props.parts
    .filter((p) => p.no_undo)
    .map((p) => ({
      title: props.parts.length > 1 ? `“${p.title}”` : '',
      says: p.cannot_undo ? 'cannot be undone' : 'no undo in this runbook',
      loses: p.loses,
    })),
)
const says = (r: { title: string; says: string }) => {
  const line = r.title ? `${r.title}: ${r.says}` : r.says
  return line.charAt(0).toUpperCase() + line.slice(1)
}
</script>

<template>
  <section v-if="risks.length" class="risk" aria-label="Risk">
    <template v-for="(r, n) in risks" :key="n">
      <p class="says"><StateShape name="no-undo" /> {{ says(r) }}</p>
      <p>
        <template v-if="r.loses">What is lost: {{ r.loses }}</template
        ><template v-else>What is lost: not stated by the author.</template>
      </p>
    </template>
  </section>
</template>

<style scoped>
.risk {
  border: 1px solid rgba(var(--v-theme-error), 0.5);
  background: rgba(var(--v-theme-error), 0.08);
  border-radius: 4px;
  padding: 8px 12px;
  margin-bottom: 8px;
  font-size: 13px;
  line-height: 18px;
}
@media (max-width: 700px) {
  .risk {
    padding: 3px 8px;
    margin-bottom: 4px;
    font-size: 12px;
    line-height: 1.35;
  }
  .risk p {
    display: inline;
    margin-right: 6px;
  }
}
.says {
  color: rgb(var(--v-theme-error));
  font-weight: 650;
}
</style>
