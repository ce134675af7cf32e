<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'

type Output = Schemas['AttemptContent']['output']

const props = defineProps<{ shown: string; output?: Output; stderr?: Output }>()
const parts = computed(
  () =>
    [
      { name: 'output', o: props.output },
      { name: 'standard error', o: props.stderr },
    ].filter((p) => p.o && p.o.size > 0) as { name: string; o: Output }[],
)
</script>

<template>
  <details v-if="shown || parts.length">
    <summary>
      <code class="mono">{{ shown.split('\n')[0] }}</code>
    </summary>
    <template v-for="p in parts" :key="p.name">
      <div v-if="parts.length > 1" class="faint">{{ p.name }}</div>
      <pre class="mono" tabindex="0" :aria-label="p.name">{{ p.o.head }}<template v-if="p.o.tail">
… {{ p.o.size }} bytes in all …
{{ p.o.tail }}</template></pre>
      <a v-if="p.o.artifact" :href="`/api/v1/artifacts/${p.o.artifact}`" target="_blank">the whole output</a>
    </template>
  </details>
</template>

<style scoped>
details {
  margin: 1px 0 3px;
}
summary {
  padding: 2px 0;
  cursor: pointer;
  color: rgba(var(--v-theme-on-surface), 0.68);
  width: fit-content;
  max-width: 100%;
  overflow-wrap: anywhere;
}
pre {
  background: rgba(var(--v-theme-on-surface), 0.06);
  padding: 8px 10px;
  border-radius: 3px;
  max-height: 320px;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
