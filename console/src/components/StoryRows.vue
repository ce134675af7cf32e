<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, span } from '../composables/clock'
import { between, rowLook } from '../composables/story'
import StoryText from './StoryText.vue'
import StateShape from './StateShape.vue'

/** The record folded: one row a step. A row leads to its entries. */
const props = defineProps<{ rows: Schemas['StoryRow'][] }>()
const emit = defineEmits<{ pick: [entry: number] }>()
const detail = ref(false)
const shown = computed(() => props.rows.filter((r) => detail.value || r.weight === 'tell'))
const more = computed(() => props.rows.filter((r) => r.weight !== 'tell').length)
const took = (r: Schemas['StoryRow']) => {
  const ms = Date.parse(r.until) - Date.parse(r.at)
  return ms >= 1000 ? span(ms) : ''
}
</script>

<template>
  <table class="story">
    <caption>
      The story of the incident, a row for each step
    </caption>
    <thead>
      <tr>
        <th scope="col">Time</th>
        <th scope="col"><span class="only-read">Kind</span></th>
        <th scope="col">Step and result</th>
        <th scope="col" class="took">Took</th>
      </tr>
    </thead>
    <tbody>
      <!-- A row that is as it was costs nothing: a story may be long, and a row comes with each event. -->
      <tr v-for="r in shown" :key="r.first" v-memo="[r]" :class="[r.lane, r.state]">
        <td>
          <button type="button" class="at" :title="`${exact(r.at)}: to the record`" @click="emit('pick', r.first)">
            {{ clockTime(r.at) }}
          </button>
        </td>
        <td class="word">
          <StateShape
            class="shape"
            :name="rowLook[r.state].shape"
            :style="rowLook[r.state].color ? { color: `rgb(var(--v-theme-${rowLook[r.state].color}))` } : {}"
          />
          {{ r.word }}<span v-if="rowLook[r.state].word" class="only-read">, {{ rowLook[r.state].word }}</span>
        </td>
        <td>
          <strong v-if="r.title">{{ r.title }}</strong><template v-if="r.title && r.says.length">{{
            between(r.title)
          }}</template
          ><StoryText :text="r.says" />
          <div v-for="(b, n) in r.below" :key="n" class="below"><StoryText :text="b" /></div>
        </td>
        <td class="took num faint">{{ took(r) }}</td>
      </tr>
      <tr v-if="!shown.length">
        <td colspan="4" class="faint">Nothing yet: the first step of a runbook stands here as soon as it is taken.</td>
      </tr>
    </tbody>
  </table>
  <button v-if="more" type="button" class="quiet" :aria-pressed="detail" @click="detail = !detail">
    {{ detail ? 'Only what matters' : `Show ${more} more, of how it went` }}
  </button>
</template>

<style scoped>
.story {
  width: 100%;
  border-collapse: collapse;
  table-layout: fixed;
}
caption,
.only-read {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
  white-space: nowrap;
}
th {
  text-align: left;
  font-weight: 550;
  font-size: 12px;
  padding: 4px 12px 4px 0;
  color: rgba(var(--v-theme-on-surface), 0.68);
}
th:first-child {
  width: 84px;
}
th:nth-child(2) {
  width: 112px;
}
.took {
  width: 92px;
  text-align: right;
}
td {
  padding: 6px 12px 6px 0;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  vertical-align: baseline;
  overflow-wrap: anywhere;
}
td.took,
th.took {
  padding-right: 0;
}
.at {
  background: none;
  border: 0;
  padding: 2px 0;
  font: inherit;
  font-variant-numeric: tabular-nums;
  color: rgba(var(--v-theme-on-surface), 0.78);
  cursor: pointer;
}
.at:hover {
  text-decoration: underline;
}
.word {
  font-weight: 600;
  font-size: 12.5px;
  white-space: nowrap;
}
.shape {
  display: inline-block;
  width: 14px;
}
.below {
  color: rgba(var(--v-theme-on-surface), 0.74);
  font-size: 13px;
}
@media (max-width: 700px) {
  th:first-child {
    width: 72px;
  }
  th:nth-child(2) {
    width: 92px;
  }
  .took {
    display: none;
  }
}
</style>
