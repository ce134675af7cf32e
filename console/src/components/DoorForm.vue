<script setup lang="ts">
import ActButton from './ActButton.vue'
import { computed } from 'vue'

import { useAttempt } from '../composables/attempt'

// The form at the door: what does not go through is said below its fields.
defineProps<{ title: string; says?: string; action: string; ready: boolean; go: () => Promise<void> }>()
const { wrong, busy, attempt } = useAttempt()
const said = computed(() => wrong.value && `${wrong.value.charAt(0).toUpperCase()}${wrong.value.slice(1)}.`)
</script>

<template>
  <div class="page narrow">
    <h1>{{ title }}</h1>
    <p v-if="says" class="faint">{{ says }}</p>
    <form @submit.prevent="attempt(go)">
      <slot />
      <p v-if="said" role="alert" class="wrong">{{ said }}</p>
      <ActButton type="submit" color="primary" variant="flat" block :loading="busy" :disabled="!ready">{{
        action
      }}</ActButton>
    </form>
    <slot name="below" />
  </div>
</template>

<style scoped>
.narrow {
  max-width: 400px;
  padding-top: 12vh;
}
form {
  display: grid;
  gap: 14px;
  margin: 18px 0;
}
</style>
