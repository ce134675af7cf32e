<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import TimeAgo from '../components/TimeAgo.vue'
import { useSession } from '../composables/session'
import FormDialog from '../components/FormDialog.vue'
import SetupTable from './SetupTable.vue'

/** Sealed values, of which only names and versions are ever shown; and files that runbooks send to hosts. */
const session = useSession()
const q = useQuery({
  queryKey: ['secrets'],
  queryFn: () => got(api.GET('/api/v1/secrets')),
  enabled: session.may('admin'),
})
const files = useQuery({ queryKey: ['stored'], queryFn: () => got(api.GET('/api/v1/files')) })
const open = ref(false)
const known = ref(false)
const name = ref('')
const kind = ref<Schemas['Secret']['kind']>('text')
const value = ref('')
function edit(row?: Schemas['Secret']) {
  known.value = Boolean(row)
  name.value = row?.name ?? ''
  kind.value = row?.kind ?? 'text'
  value.value = ''
  open.value = true
}
const save = () =>
  got(api.POST('/api/v1/secrets', { body: { name: name.value.trim(), kind: kind.value, value: value.value } }))
const removing = ref('')
const sure = ref(false)
const remove = () => got(api.DELETE('/api/v1/secrets/{name}', { params: { path: { name: removing.value } } }))
const size = (n: number) => (n < 1024 ? `${n} bytes` : `${(n / 1024).toFixed(1)} kB`)
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>Secrets and files</h1>
      <v-btn v-if="session.may('admin')" color="primary" variant="flat" @click="edit()">Seal a secret</v-btn>
    </header>
    <SetupTable
      v-if="session.may('admin')"
      label="Secrets"
      :rows="q.data.value"
      :error="q.error.value?.message"
      empty="No secret is sealed yet."
      :columns="[
        { title: 'Name', key: 'name', value: (s) => s.name },
        { title: 'Kind', key: 'kind', value: (s) => s.kind },
        { title: 'Version', key: 'version', value: (s) => String(s.version) },
        { title: 'Set', key: 'set', value: (s) => s.set_at, wide: true },
      ]"
    >
      <template #set="{ row }"><TimeAgo :at="row.set_at" /></template>
      <template #acts="{ row }">
        <v-btn size="small" variant="text" @click="edit(row)">New value</v-btn>
        <v-btn size="small" variant="text" @click="((removing = row.name), (sure = true))">Remove</v-btn>
      </template>
    </SetupTable>
    <p v-else class="empty">Secrets are shown to administrators, and to them without their values.</p>
    <h2>Files</h2>
    <SetupTable
      label="Files"
      :rows="files.data.value"
      :error="files.error.value?.message"
      empty="No file is stored. A runbook's put: sends what is stored here."
      :columns="[
        { title: 'Name', key: 'name', value: (f) => f.name },
        { title: 'Size', key: 'size', value: (f) => size(f.size ?? 0) },
        { title: 'Stored', key: 'at', value: (f) => f.added_at, wide: true },
      ]"
    >
      <template #at="{ row }"><TimeAgo :at="row.added_at" /></template>
    </SetupTable>
    <FormDialog
      v-model="open"
      :title="known ? `A new value of ${name}` : 'Seal a secret'"
      button="Seal"
      :ready="Boolean(name.trim() && value)"
      :go="save"
      says="Nobody can read it again, also no administrator. Approvals that rest on an older version are void."
      @done="q.refetch()"
    >
      <v-text-field v-if="!known" v-model="name" label="Name" hide-details autofocus maxlength="63" />
      <v-select v-model="kind" label="Kind" :items="['ssh-key', 'password', 'text']" hide-details />
      <v-textarea v-model="value" label="Value" rows="3" hide-details autocomplete="off" maxlength="65536" />
    </FormDialog>
    <FormDialog
      v-model="sure"
      :title="`Remove ${removing}?`"
      button="Remove"
      :go="remove"
      says="What signs in with it can do so no more."
      @done="q.refetch()"
    />
  </div>
</template>
