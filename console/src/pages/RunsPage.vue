<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useInfiniteQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import RunRows from '../components/RunRows.vue'
import { useRunbooks } from '../composables/data'

/** Runs, found by what they were begun with; what was read stays while more is. */
const text = ref('')
const words = refDebounced(text, 300)
const runbook = ref<string | null>(null)
const state = ref<Schemas['Run']['state'] | null>(null)
const by = ref('')
const who = refDebounced(by, 300)
const narrowed = computed(() => ({
  text: words.value?.trim() || undefined,
  runbook: runbook.value ?? undefined,
  state: state.value ?? undefined,
  by: who.value?.trim() || undefined,
}))
const some = computed(() => Object.values(narrowed.value).some(Boolean))
const q = useInfiniteQuery({
  queryKey: computed(() => ['runs', 'list', narrowed.value]),
  queryFn: ({ pageParam }) =>
    got(
      api.GET('/api/v1/runs', { params: { query: { ...narrowed.value, limit: 50, cursor: pageParam || undefined } } }),
    ),
  initialPageParam: '',
  getNextPageParam: (last) => last.next || undefined,
  placeholderData: (old) => old,
})
/** A run that moved to another page while the list was read stands once. */
const items = computed(() => [
  ...new Map((q.data.value?.pages ?? []).flatMap((p) => p.items).map((r) => [r.id, r])).values(),
])
const books = useRunbooks()
const states = ['running', 'waiting', 'done', 'failed', 'handed-over', 'cancelled']
</script>

<template>
  <div class="page">
    <h1>Runs</h1>
    <form class="narrow" role="search" @submit.prevent>
      <v-text-field
        v-model="text"
        label="Search runbooks, inputs and alerts"
        placeholder='quay-north, "ramp 2", -test'
        hide-details
        clearable
        maxlength="200"
      />
      <v-autocomplete
        v-model="runbook"
        :items="(books.data.value ?? []).map((b) => b.name)"
        label="Runbook"
        hide-details
        clearable
      />
      <v-select v-model="state" :items="states" label="State" hide-details clearable />
      <v-text-field v-model="by" label="Started by" placeholder="a person" hide-details clearable maxlength="200" />
    </form>
    <RunRows v-if="items.length" :items="items" label="Runs" />
    <p v-else-if="q.isSuccess.value && some" class="empty">No run is like that.</p>
    <p v-else-if="q.isSuccess.value" class="empty">
      Nothing ran yet. Start one from <router-link to="/runbooks">Runbooks</router-link>.
    </p>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
    <ActButton v-if="q.hasNextPage.value" class="mt-4" :loading="q.isFetchingNextPage.value" @click="q.fetchNextPage()"
      >Older ones</ActButton
    >
  </div>
</template>

<style scoped>
.narrow {
  display: grid;
  grid-template-columns: minmax(0, 2fr) minmax(0, 1fr) 160px minmax(0, 1fr);
  gap: 12px;
  margin: 8px 0 18px;
}
@media (max-width: 900px) {
  .narrow {
    grid-template-columns: 1fr;
  }
}
</style>
