<script setup lang="ts">
import { computed } from 'vue'

import { look } from '../composables/words'
import StateShape from './StateShape.vue'

const props = defineProps<{ state: string }>()
const l = computed(() => look(props.state))
</script>

<template>
  <span class="state" :style="{ color: l.color }"><StateShape :name="l.shape" /> {{ l.word }}</span>
</template>

<style scoped>
.state {
  white-space: nowrap;
  font-weight: 600;
  font-size: 13px;
}
</style>
