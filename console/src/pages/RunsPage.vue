<script setup lang="ts">
import RunRows from '../components/RunRows.vue'
import { useRuns } from '../composables/data'

const q = useRuns(false)
</script>

<template>
  <div class="page">
    <h1>Runs</h1>
    <RunRows v-if="q.data.value?.items.length" :items="q.data.value.items" label="Runs" />
    <p v-else-if="q.isSuccess.value" class="empty">
      Nothing ran yet. Start one from <router-link to="/runbooks">Runbooks</router-link>.
    </p>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
  </div>
</template>
