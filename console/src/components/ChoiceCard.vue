<script setup lang="ts">
import type { Schemas } from '../api/client'
import CommandList from './CommandList.vue'
import StateShape from './StateShape.vue'

/** One answer of a question: what it comes to, what it approves, and the button that gives it. */
defineProps<{
  option: Schemas['Option']
  label: string
  /** What follows, as it was foreseen. */
  follows: string[]
  /** What it approves; nothing where it approves no change. */
  brief?: Schemas['Brief']
  may: boolean
  busy: boolean
}>()
const emit = defineEmits<{ take: [] }>()
</script>

<template>
  <li class="card" :class="{ barred: option.barred }">
    <div class="words">
      <h3>{{ label }}</h3>
      <p>
        {{ option.says }} <span class="follows">{{ follows.join(' ') }}</span>
        <template v-if="!brief"> Approves no change.</template>
      </p>
      <template v-if="brief">
        <p class="approves">
          Approves: <strong>{{ brief.headline.what }}</strong><template v-if="brief.headline.how"
            >, {{ brief.headline.how }}</template
          ><template v-if="brief.headline.back">; <StateShape name="undo" />&nbsp;{{ brief.headline.back }}</template
          ><strong v-if="brief.headline.cannot"
            >; <StateShape name="no-undo" />&nbsp;{{ brief.headline.cannot }}</strong
          >
        </p>
        <CommandList :parts="brief.parts" folded bare />
      </template>
      <p v-if="option.barred" class="wait">Not now: {{ option.barred }}</p>
    </div>
    <v-btn class="choice" :disabled="busy || !may || Boolean(option.barred)" @click="emit('take')">{{ label }}</v-btn>
  </li>
</template>

<style scoped>
.card {
  display: flex;
  gap: 8px 20px;
  align-items: center;
  padding: 7px 14px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.18);
  border-radius: 4px;
}
.card + .card {
  margin-top: 6px;
}
.words {
  flex: 1;
  min-width: 0;
  font-size: 13px;
  line-height: 18px;
}
.words p {
  margin: 0;
}
h3 {
  font-size: 15px;
  line-height: 20px;
  font-weight: 650;
  margin: 0;
  overflow-wrap: anywhere;
}
.follows {
  color: rgba(var(--v-theme-on-surface), 0.76);
}
.choice {
  flex: none;
  width: 220px;
  height: auto;
  min-height: 40px;
  padding: 6px 12px;
  white-space: normal;
}
.choice :deep(.v-btn__content) {
  white-space: normal;
}
</style>
