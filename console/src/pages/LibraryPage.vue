<script setup lang="ts">
import { computed, ref } from 'vue'

import { useLibrary } from '../composables/data'

const q = useLibrary()
const find = ref('')
const looks = ref(false)
const items = computed(() => {
  const f = find.value.toLowerCase().trim()
  return (q.data.value ?? []).filter(
    (r) =>
      (!looks.value || !r.changes) &&
      (!f || [r.name, r.title, r.about, r.harm, ...r.tags].some((x) => x.toLowerCase().includes(f))),
  )
})
const does = (n: number) =>
  n === 0 ? 'only looks' : n === 1 ? '1 change, behind a gate' : `${n} changes, behind gates`
</script>

<template>
  <div class="page">
    <div class="top">
      <h1>Library</h1>
      <div class="tools">
        <v-checkbox v-model="looks" label="Only looks" density="compact" hide-details />
        <v-text-field v-model="find" label="Find" density="compact" hide-details clearable class="find" />
      </div>
    </div>
    <p class="faint">
      Runbooks that ship with the program, each held to its cases. A binding makes one yours: for a service, with its
      targets and inputs.
    </p>
    <table v-if="items.length" class="plain" aria-label="Library">
      <thead>
        <tr>
          <th>For</th>
          <th>Does</th>
          <th class="wide">Tags</th>
          <th class="num wide">Cases</th>
          <th>Bound here as</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in items" :key="r.name">
          <td>
            <router-link :to="`/library/${r.name}`">{{ r.title }}</router-link>
            <div class="faint mono">{{ r.name }}</div>
          </td>
          <td :class="{ faint: !r.changes }">{{ does(r.changes) }}</td>
          <td class="wide faint">{{ r.tags.join(', ') }}</td>
          <td class="num wide">{{ r.cases }}</td>
          <td>
            <div v-for="b in r.bound" :key="b">
              <router-link :to="`/runbooks/${b}`">{{ b }}</router-link>
            </div>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">The library has nothing of that kind.</p>
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
  </div>
</template>

<style scoped>
.top,
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 0 16px;
  justify-content: space-between;
  align-items: center;
}
.find {
  width: 240px;
}
</style>
