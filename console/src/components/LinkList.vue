<script setup lang="ts">
import { mdiOpenInNew } from '@mdi/js'

import type { Schemas } from '../api/client'

/** Pages outside that tell more. */
defineProps<{ links: Schemas['PageLink'][] }>()
</script>

<template>
  <ul v-if="links.length" class="links" aria-label="Pages outside">
    <li v-for="l in links" :key="l.title + l.address">
      <a :href="l.address" target="_blank" rel="noopener noreferrer"
        >{{ l.title }}<v-icon :icon="mdiOpenInNew" size="13" class="out" aria-hidden="true"
      /></a>
    </li>
  </ul>
</template>

<style scoped>
.links {
  list-style: none;
  padding: 0;
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
}
.links a {
  display: inline-block;
  min-height: 24px;
  overflow-wrap: anywhere;
}
.out {
  margin-left: 4px;
}
</style>
