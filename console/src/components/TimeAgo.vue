<script setup lang="ts">
import { computed } from 'vue'

import { exact, relative, useClock } from '../composables/clock'

const props = defineProps<{ at: string }>()
const now = useClock()
const text = computed(() => relative(props.at, now.value))
</script>

<template>
  <time :datetime="at" :title="exact(at)" class="num">{{ text }}</time>
</template>
