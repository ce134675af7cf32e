<script setup lang="ts">
import { computed } from 'vue'

import { shapes, type ShapeName, type Stroke } from '../composables/shapes'

/** The shape of a state. A word stands beside it, so that it is not read aloud. */
const props = defineProps<{ name: ShapeName }>()
const strokes = computed<Stroke[]>(() => shapes[props.name])
</script>

<template>
  <svg class="shape" viewBox="0 0 14 14" width="14" height="14" aria-hidden="true">
    <path
      v-for="s in strokes"
      :key="s.d"
      :d="s.d"
      :class="s.out ? 'out' : 'in'"
      :fill="s.width ? 'none' : 'currentColor'"
      :stroke-width="s.width"
      :stroke-dasharray="s.dash"
    />
  </svg>
</template>

<style scoped>
.shape {
  display: inline-block;
  flex: none;
  vertical-align: -2px;
}
.in[stroke-width] {
  stroke: currentColor;
  stroke-linejoin: round;
}
.out {
  stroke: rgb(var(--v-theme-surface));
}
</style>
