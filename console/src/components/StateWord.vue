<script setup lang="ts">
import { computed } from 'vue'

import { look } from '../composables/words'

const props = defineProps<{ state: string }>()
const l = computed(() => look(props.state))
</script>

<template>
  <span class="state" :style="{ color: l.color }"
    ><span aria-hidden="true">{{ l.shape }}</span> {{ l.word }}</span
  >
</template>

<style scoped>
.state {
  white-space: nowrap;
  font-weight: 550;
  font-size: 13px;
}
</style>
