<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import TimeAgo from './TimeAgo.vue'

// What happened to services, the newest first. own is the service whose name need not be told.
const props = defineProps<{ marks: Schemas['ServiceMark'][]; own?: string }>()
const few = 8
const all = ref(false)
const shown = computed(() => (all.value ? props.marks : props.marks.slice(0, few)))
</script>

<template>
  <table v-if="marks.length" class="plain" aria-label="What happened">
    <tbody>
      <tr v-for="(m, i) in shown" :key="i">
        <td class="when faint"><TimeAgo :at="m.at" /></td>
        <td class="what">{{ m.what }}</td>
        <td v-if="own === undefined || marks.some((x) => x.service !== own)" class="faint">
          {{ m.service === own ? '' : m.service }}
        </td>
        <td>
          <router-link v-if="m.incident" :to="`/incidents/${m.incident}`">{{ m.title }}</router-link>
          <a v-else-if="m.link" :href="m.link" rel="noopener">{{ m.title }}</a>
          <template v-else>{{ m.title }}</template>
        </td>
        <td class="faint wide">{{ m.by }}</td>
      </tr>
    </tbody>
  </table>
  <p v-else class="faint">Nothing that is known.</p>
  <button v-if="marks.length > few" type="button" class="quiet" @click="all = !all">
    {{ all ? 'show fewer' : `show all ${marks.length}` }}
  </button>
</template>

<style scoped>
.when {
  white-space: nowrap;
  width: 1%;
}
.what {
  white-space: nowrap;
  width: 1%;
}
</style>
