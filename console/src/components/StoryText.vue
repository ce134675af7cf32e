<script setup lang="ts">
import type { Schemas } from '../api/client'
import { clockTime, exact } from '../composables/clock'

/** A line of the story, with what its parts are. Times are in the zone of whoever reads. */
defineProps<{ text: Schemas['Text'] }>()
</script>

<template>
  <template v-for="(s, n) in text" :key="n"
    ><code v-if="s.is === 'code'" class="mono">{{ s.text }}</code
    ><span v-else-if="s.is === 'value'" class="mono">{{ s.text }}</span
    ><time v-else-if="s.is === 'time' && s.at" :datetime="s.at" :title="exact(s.at)" class="num">{{
      clockTime(s.at)
    }}</time
    ><strong v-else-if="s.is === 'person'">{{ s.text }}</strong
    ><template v-else>{{ s.text }}</template></template
  >
</template>
