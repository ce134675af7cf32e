<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import { useServices } from '../composables/data'
import { useSession } from '../composables/session'
import FormDialog from '../components/FormDialog.vue'
import SetupTable from './SetupTable.vue'

/** Hosts and devices that runbooks look at and change: where each is, and how it is signed in to. */
const session = useSession()
const services = useServices()
const q = useQuery({ queryKey: ['targets'], queryFn: () => got(api.GET('/api/v1/targets')) })
const tried = ref<Record<string, { ok: boolean; says: string }>>({})
const trying = ref('')
async function tryOut(name: string) {
  trying.value = name
  try {
    const r = await got(api.POST('/api/v1/targets/{name}/try', { params: { path: { name } } }))
    tried.value[name] = r
  } catch (e) {
    tried.value[name] = { ok: false, says: e instanceof Error ? e.message : String(e) }
  } finally {
    trying.value = ''
  }
}

const open = ref(false)
const known = ref(false)
const t = ref({ name: '', service: '', address: '', port: '22', account: '', secret: '', host_key: '', labels: '' })
function edit(row?: Schemas['Target']) {
  known.value = Boolean(row)
  had = Object.keys(row?.labels ?? {})
  t.value = {
    name: row?.name ?? '',
    service: row?.service ?? '',
    address: row?.address ?? '',
    port: String(row?.port ?? 22),
    account: row?.account ?? '',
    secret: row?.secret ?? '',
    host_key: row?.host_key ?? '',
    labels: Object.entries(row?.labels ?? {})
      .map(([k, v]) => `${k}=${v ?? ''}`)
      .join(' '),
  }
  open.value = true
}
/** A change is a merge: a label that was taken out is null. */
let had: string[] = []
const labels = () => ({
  ...Object.fromEntries(had.map((k) => [k, null])),
  ...Object.fromEntries(
    t.value.labels
      .split(/[\s,]+/)
      .filter(Boolean)
      .map((x) => [x.split('=')[0] ?? '', x.split('=').slice(1).join('=')]),
  ),
})
const save = () =>
  got(
    api.POST('/api/v1/targets', {
      body: {
        name: t.value.name.trim(),
        service: t.value.service,
        address: t.value.address.trim(),
        port: Number(t.value.port),
        account: t.value.account.trim() || null,
        secret: t.value.secret.trim() || null,
        host_key: t.value.host_key.trim() || null,
        labels: labels(),
      },
    }),
  )
const removing = ref('')
const sure = ref(false)
const remove = () => got(api.DELETE('/api/v1/targets/{name}', { params: { path: { name: removing.value } } }))
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>Targets</h1>
      <v-btn v-if="session.may('admin')" color="primary" variant="flat" @click="edit()">Add a target</v-btn>
    </header>
    <SetupTable
      label="Targets"
      :rows="q.data.value"
      :error="q.error.value?.message"
      empty="No target yet. Add the first host that runbooks may look at."
      :columns="[
        { title: 'Name', key: 'name', value: (x) => x.name },
        { title: 'Service', key: 'service', value: (x) => x.service ?? '' },
        { title: 'Address', key: 'address', value: (x) => `${x.address ?? ''}:${x.port ?? 22}`, mono: true },
        { title: 'Signs in', key: 'account', value: (x) => x.account ?? '', wide: true },
        {
          title: 'Labels',
          key: 'labels',
          value: (x) =>
            Object.entries(x.labels ?? {})
              .map(([k, v]) => `${k}=${v}`)
              .join(' '),
          wide: true,
        },
      ]"
    >
      <template #service="{ row }"
        ><router-link v-if="row.service" :to="`/services/${row.service}`">{{ row.service }}</router-link></template
      >
      <template #account="{ row }"
        >{{ row.device ? `device ${row.device}` : row.account || 'not set' }}
        <span v-if="row.look_account" class="faint">looks as {{ row.look_account }}</span></template
      >
      <template #acts="{ row }">
        <span v-if="tried[row.name]" role="status" :class="tried[row.name]?.ok ? 'fine' : 'wrong'">{{
          tried[row.name]?.says
        }}</span>
        <ActButton
          v-if="session.may('responder')"
          size="small"
          variant="text"
          :loading="trying === row.name"
          @click="tryOut(row.name)"
          >Try</ActButton
        >
        <template v-if="session.may('admin')">
          <v-btn size="small" variant="text" @click="edit(row)">Edit</v-btn>
          <v-btn size="small" variant="text" @click="((removing = row.name), (sure = true))">Remove</v-btn>
        </template>
      </template>
    </SetupTable>
    <FormDialog
      v-model="open"
      :title="known ? `Target ${t.name}` : 'Add a target'"
      :button="known ? 'Save' : 'Add'"
      :ready="Boolean(t.name.trim() && t.service && t.address.trim())"
      :go="save"
      says="The key of the host is pinned: where another one answers, nothing is sent."
      @done="q.refetch()"
    >
      <v-text-field v-if="!known" v-model="t.name" label="Name" hide-details autofocus maxlength="63" />
      <v-autocomplete
        v-model="t.service"
        label="Service"
        :items="(services.data.value ?? []).map((s) => s.name)"
        hide-details
      />
      <div class="two">
        <v-text-field v-model="t.address" label="Address" hide-details maxlength="255" />
        <v-text-field v-model="t.port" label="Port" type="number" hide-details />
      </div>
      <div class="two">
        <v-text-field v-model="t.account" label="Account" hide-details maxlength="32" />
        <v-text-field v-model="t.secret" label="Secret of its key or password" hide-details maxlength="100" />
      </div>
      <v-textarea
        v-model="t.host_key"
        label="Key of the host, as ssh-ed25519 AAAA…"
        rows="2"
        hide-details
        maxlength="2000"
      />
      <v-text-field v-model="t.labels" label="Labels, as role=consumer zone=north" hide-details maxlength="1000" />
    </FormDialog>
    <FormDialog
      v-model="sure"
      :title="`Remove ${removing}?`"
      button="Remove"
      :go="remove"
      says="Runbooks look at it and change it no more. What was read of it stays."
      @done="q.refetch()"
    />
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 2fr 1fr;
  gap: 12px;
}
.fine {
  color: rgb(var(--v-theme-success));
}
</style>
