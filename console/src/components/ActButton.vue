<script setup lang="ts">
/** A button of an act that takes a while: what turns while it does has a name for who cannot see it. */
defineProps<{ loading?: boolean }>()
</script>

<template>
  <v-btn :loading="loading">
    <template #loader><v-progress-circular indeterminate width="2" aria-label="At work" /></template>
    <slot />
  </v-btn>
</template>
