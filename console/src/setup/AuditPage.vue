<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useInfiniteQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, ref } from 'vue'

import { api, got } from '../api/client'
import { clockTime, exact } from '../composables/clock'

/** Every act by a person or a program, the newest first. */
const actor = ref('')
const who = refDebounced(actor, 300)
const q = useInfiniteQuery({
  queryKey: computed(() => ['audit', who.value.trim()]),
  queryFn: ({ pageParam }) =>
    got(
      api.GET('/api/v1/audit', {
        params: { query: { limit: 50, cursor: pageParam || undefined, actor: who.value.trim() || undefined } },
      }),
    ),
  initialPageParam: '',
  getNextPageParam: (last) => last.next,
})
const acts = computed(() => [
  ...new Map((q.data.value?.pages ?? []).flatMap((p) => p.items).map((a) => [a.id, a])).values(),
])
const day = (at: string) =>
  new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric' })
</script>

<template>
  <div class="page">
    <h1>Audit</h1>
    <form role="search" @submit.prevent>
      <v-text-field
        v-model="actor"
        class="find"
        label="By whom"
        hide-details
        clearable
        density="compact"
        maxlength="200"
      />
    </form>
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <table v-else-if="acts.length" class="plain" aria-label="Acts">
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>Act</th>
          <th>On</th>
          <th class="wide">Detail</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="a in acts" :key="a.id">
          <td class="num">
            <time :datetime="a.at" :title="exact(a.at)">{{ day(a.at) }}, {{ clockTime(a.at) }}</time>
          </td>
          <td>{{ a.actor }}</td>
          <td class="mono">{{ a.act }}</td>
          <td>{{ a.subject }}</td>
          <td class="wide">{{ a.detail }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">{{ who ? `${who} did nothing yet.` : 'Nothing was done yet.' }}</p>
    <ActButton v-if="q.hasNextPage.value" class="mt-4" :loading="q.isFetchingNextPage.value" @click="q.fetchNextPage()"
      >Older acts</ActButton
    >
  </div>
</template>

<style scoped>
.find {
  max-width: 320px;
  margin: 8px 0;
}
td {
  overflow-wrap: anywhere;
}
</style>
