<script setup lang="ts">
import { clockTime, exact, relative, useClock } from '../composables/clock'
import StateShape from './StateShape.vue'

// The frame of what waits for somebody: an approval, an answer, or a person who takes over. Its look is in style.css, as
// what stands in it comes from others.
defineProps<{ wanted: string; from: string; until?: string }>()
const now = useClock()
</script>

<template>
  <section class="wanted" :aria-label="wanted">
    <header>
      <strong><StateShape name="pennant" /> {{ wanted }}</strong>
      <span class="faint from">{{ from }}<slot name="from" /></span>
      <span v-if="until" class="until"
        >expires <b :title="exact(until)" class="num">{{ relative(until, now) }}</b><span class="from"
          >, at {{ clockTime(until) }}</span
        ></span
      >
    </header>
    <slot />
  </section>
</template>

<style scoped>
.until {
  margin-left: auto;
  white-space: nowrap;
}
</style>
