<script setup lang="ts">
import StateShape from '../components/StateShape.vue'
import { useStatus } from '../composables/data'

/** Says on every page that all changes are halted. */
const status = useStatus()
</script>

<template>
  <p v-if="status.data.value?.halted" class="halted" role="status">
    <StateShape name="hatch" /> All changes are halted by {{ status.data.value.halted_by }}. Looks go on.
  </p>
</template>

<style scoped>
.halted {
  padding: 8px 24px;
  font-weight: 600;
  background: repeating-linear-gradient(
    -45deg,
    rgba(var(--v-theme-on-surface), 0.03) 0 6px,
    rgba(var(--v-theme-on-surface), 0.1) 6px 9px
  );
}
</style>
