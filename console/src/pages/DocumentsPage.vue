<script setup lang="ts">
import { computed, ref } from 'vue'

import TimeAgo from '../components/TimeAgo.vue'
import type { Schemas } from '../api/client'
import { useDocuments } from '../composables/data'
import { useSession } from '../composables/session'
import { authored, skeletons } from '../composables/skeletons'

type Kind = Schemas['DocumentKind']

const session = useSession()
const q = useDocuments()
const kinds = Object.keys(skeletons) as Kind[]
const kind = ref<Kind | null>(null)
const shown = computed(() => (q.data.value ?? []).filter((d) => !kind.value || d.kind === kind.value))
/** Runbooks are their authors', all that decides about alerts is the admins'. */
const mine = computed(() => kinds.filter((k) => session.may(authored.includes(k) ? 'author' : 'admin')))
</script>

<template>
  <div class="page">
    <h1>Documents</h1>
    <p class="faint">
      What decides which alerts come in, what starts, and what is one incident. Each is a text with its revisions;
      <code class="mono">urgentis pull DIR</code> and <code class="mono">urgentis push DIR</code> keep them as files.
    </p>
    <div class="tools">
      <v-select v-model="kind" :items="kinds" label="Kind" clearable hide-details class="kind" />
      <span v-if="mine.length" class="new">
        New:
        <router-link v-for="k in mine" :key="k" :to="`/documents/${k}`">{{ k }}</router-link>
      </span>
    </div>
    <table v-if="shown.length" class="plain" aria-label="Documents">
      <thead>
        <tr>
          <th>Kind</th>
          <th>Name</th>
          <th class="num">Revision</th>
          <th>Pushed</th>
          <th class="wide">Kept as text at</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="d in shown" :key="`${d.kind}/${d.name}`">
          <td class="faint">{{ d.kind }}</td>
          <td>
            <router-link :to="`/documents/${d.kind}/${d.name}`">{{ d.name }}</router-link>
          </td>
          <td class="num">{{ d.number }}</td>
          <td>
            <TimeAgo :at="d.pushed_at" /> <span class="faint">by {{ d.pushed_by }}</span>
          </td>
          <td class="wide mono faint">{{ d.origin }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">
      {{ kind ? `There is no ${kind} yet.` : 'There are none yet. Push a folder of them with urgentis push DIR.' }}
    </p>
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
  </div>
</template>

<style scoped>
.tools {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 24px;
  align-items: center;
  margin: 12px 0;
}
.kind {
  max-width: 220px;
}
.new {
  display: flex;
  flex-wrap: wrap;
}
.new a {
  margin-left: 10px;
  padding: 4px 0;
}
</style>
