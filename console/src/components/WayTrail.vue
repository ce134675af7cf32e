<script setup lang="ts">
import type { Schemas } from '../api/client'
import { clockTime, exact } from '../composables/clock'
import StateShape from './StateShape.vue'

/** The questions of a procedure until now: what was answered, and where one is. */
defineProps<{ way: Schemas['WayPoint'][] }>()
</script>

<template>
  <ol class="way" aria-label="The way here">
    <li v-for="(w, i) in way" :key="i" :class="{ here: w.open }" :aria-current="w.open ? 'step' : undefined">
      <StateShape :name="w.open ? 'pennant' : 'tick'" />
      <div>
        <span>{{ w.title }}</span>
        <strong v-if="w.open">You are here</strong>
        <strong v-else
          >{{ w.answer || 'not answered'
          }}<template v-if="w.answer"
            >, {{ w.by || 'found out' }},
            <span class="num" :title="exact(w.at)">{{ clockTime(w.at).slice(0, 5) }}</span></template
          ></strong
        >
      </div>
    </li>
  </ol>
</template>

<style scoped>
.way {
  list-style: none;
  padding: 0;
  margin: 4px 0 12px;
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(min(100%, 150px), 1fr));
  gap: 8px;
}
li {
  display: flex;
  gap: 8px;
  padding-top: 6px;
  border-top: 3px solid rgb(var(--v-theme-success));
  font-size: 12.5px;
  line-height: 17px;
  min-width: 0;
}
li.here {
  border-color: rgb(var(--v-theme-warning));
}
li.here strong {
  color: rgb(var(--v-theme-warning));
}
div {
  display: flex;
  flex-direction: column;
  min-width: 0;
  overflow-wrap: anywhere;
}
</style>
