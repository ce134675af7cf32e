<script setup lang="ts">
import { exact, relative, useClock } from '../composables/clock'

// The frame of what waits for somebody: an approval, an answer, or a person who takes over. Its look is in style.css, as
// what stands in it comes from others.
defineProps<{ wanted: string; from: string; until?: string }>()
const now = useClock()
</script>

<template>
  <section class="wanted" :aria-label="wanted">
    <header>
      <strong><span aria-hidden="true">◐</span> {{ wanted }}</strong>
      <span class="faint"
        ><span :class="{ from: until }">{{ from }}<slot name="from" /></span
        ><template v-if="until"
          ><span class="from"> · </span>expires
          <span :title="exact(until)" class="num">{{ relative(until, now) }}</span></template
        ></span
      >
    </header>
    <slot />
  </section>
</template>
