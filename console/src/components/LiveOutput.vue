<script setup lang="ts">
import { computed } from 'vue'

import { useLive } from '../composables/live'
import StateShape from './StateShape.vue'

const props = defineProps<{ runs: string[] }>()
const live = useLive()
const newest = computed(() => [...live.output.values()].filter((o) => props.runs.includes(o.run)).slice(-2))
</script>

<template>
  <section v-if="newest.length" class="live" aria-label="Live output">
    <div v-for="o in newest" :key="o.attempt">
      <span class="faint"><StateShape name="waves" /> {{ o.target || 'this host' }}, as it prints</span>
      <pre class="mono" tabindex="0">{{ o.text }}</pre>
    </div>
  </section>
</template>

<style scoped>
.live {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(320px, 1fr));
  gap: 12px;
  margin: 10px 0;
}
pre {
  background: rgba(var(--v-theme-on-surface), 0.06);
  padding: 6px 10px;
  border-radius: 3px;
  max-height: 120px;
  overflow: auto;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
