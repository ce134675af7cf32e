<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got } from '../api/client'
import TimeAgo from '../components/TimeAgo.vue'
import FormDialog from '../components/FormDialog.vue'
import SetupTable from './SetupTable.vue'

/** Where messages and tickets go: rooms, mail, texts, desks, other systems; and what did not arrive. */
const q = useQuery({ queryKey: ['connections'], queryFn: () => got(api.GET('/api/v1/connections')) })
const failed = useQuery({
  queryKey: ['messages', 'failed', 'all'],
  queryFn: () => got(api.GET('/api/v1/messages', { params: { query: { state: 'failed', limit: 50 } } })),
})
const tried = ref<Record<string, { ok: boolean; says: string }>>({})
const trying = ref('')
const to = ref('')
const open = ref(false)
/** Those that reach single people must be told whom. */
const single = computed(() => ['mail', 'text'].includes(q.data.value?.find((c) => c.name === trying.value)?.kind ?? ''))
const send = async () => {
  tried.value[trying.value] = await got(
    api.POST('/api/v1/connections/{name}/try', {
      params: { path: { name: trying.value }, query: { to: to.value.trim() || undefined } },
    }),
  )
}
const again = async (id: number) => {
  await got(api.POST('/api/v1/messages/{id}/again', { params: { path: { id } } }))
  await failed.refetch()
}
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>Integrations</h1>
      <v-btn to="/documents/connection" color="primary" variant="flat">Add a connection</v-btn>
    </header>
    <SetupTable
      label="Connections"
      :rows="q.data.value"
      :error="q.error.value?.message"
      empty="No connection yet: nobody hears of anything. Add a room, mail or texts."
      :columns="[
        { title: 'Name', key: 'name', value: (c) => c.name },
        { title: 'Kind', key: 'kind', value: (c) => c.kind },
        { title: 'Where', key: 'where', value: (c) => c.where, mono: true },
      ]"
    >
      <template #name="{ row }"
        ><router-link :to="`/documents/connection/${row.name}`">{{ row.name }}</router-link></template
      >
      <template #acts="{ row }">
        <span v-if="tried[row.name]" role="status" :class="tried[row.name]?.ok ? 'fine' : 'wrong'">{{
          tried[row.name]?.says
        }}</span>
        <v-btn size="small" variant="text" @click="((trying = row.name), (to = ''), (open = true))">Send a test</v-btn>
      </template>
    </SetupTable>
    <h2>Messages that did not arrive</h2>
    <SetupTable
      label="Messages"
      :rows="failed.data.value?.items"
      :error="failed.error.value?.message"
      empty="No message failed."
      :columns="[
        { title: 'To', key: 'to', value: (m) => m.to },
        { title: 'What', key: 'text', value: (m) => m.text.split('\n')[0] ?? '', wide: true },
        { title: 'Why', key: 'error', value: (m) => m.error ?? '' },
        { title: 'When', key: 'at', value: (m) => m.queued_at },
      ]"
    >
      <template #at="{ row }"><TimeAgo :at="row.queued_at" /></template>
      <template #acts="{ row }">
        <v-btn size="small" variant="text" @click="again(row.id)">Send again</v-btn>
      </template>
    </SetupTable>
    <FormDialog
      v-model="open"
      :title="`Send a test by ${trying}`"
      button="Send"
      :ready="!single || Boolean(to.trim())"
      :go="send"
      says="The message says that it is a test."
    >
      <v-text-field
        v-if="single"
        v-model="to"
        label="To: an address or a number"
        hide-details
        autofocus
        maxlength="250"
      />
    </FormDialog>
  </div>
</template>

<style scoped>
.fine {
  color: rgb(var(--v-theme-success));
}
</style>
