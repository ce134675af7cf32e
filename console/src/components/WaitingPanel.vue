<script setup lang="ts">
import { exact, relative, useClock } from '../composables/clock'

// The frame of what waits for somebody: an approval or an answer.
defineProps<{ wanted: string; title?: string; from: string; until: string }>()
const now = useClock()
</script>

<template>
  <section class="wanted" :aria-label="title ? `${wanted}: ${title}` : wanted">
    <header>
      <strong><span aria-hidden="true">◐</span> {{ wanted }}</strong>
      <span class="faint"
        >{{ from }} · ends <span :title="exact(until)" class="num">{{ relative(until, now) }}</span></span
      >
    </header>
    <h3 v-if="title">{{ title }}</h3>
    <slot />
  </section>
</template>

<style scoped>
section {
  border: 1px solid rgb(var(--v-theme-warning));
  border-left-width: 4px;
  border-radius: 4px;
  padding: 12px 16px 16px;
  background: rgb(var(--v-theme-surface));
  margin: 12px 0 18px;
}
header {
  display: flex;
  gap: 2px 14px;
  flex-wrap: wrap;
  align-items: baseline;
}
header strong {
  color: rgb(var(--v-theme-warning));
}
h3 {
  font-size: 16px;
  font-weight: 650;
  margin: 4px 0 8px;
}
</style>
