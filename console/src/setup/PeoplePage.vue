<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import TimeAgo from '../components/TimeAgo.vue'
import FormDialog from '../components/FormDialog.vue'
import SetupTable from './SetupTable.vue'

/** Who signs in, and what each may do; and the tokens of programs. */
const roles: { value: Schemas['Role']; title: string }[] = [
  { value: 'viewer', title: 'viewer: looks at everything' },
  { value: 'responder', title: 'responder: takes incidents, answers, notes' },
  { value: 'operator', title: 'operator: starts runbooks, halts' },
  { value: 'approver', title: 'approver: approves changes' },
  { value: 'author', title: 'author: writes runbooks and other documents' },
  { value: 'admin', title: 'admin: people, secrets, connections' },
]
const people = useQuery({ queryKey: ['people'], queryFn: () => got(api.GET('/api/v1/people')) })
const tokens = useQuery({ queryKey: ['tokens'], queryFn: () => got(api.GET('/api/v1/tokens')) })

const adding = ref(false)
const known = ref(false)
const name = ref('')
const password = ref('')
const chosen = ref<Schemas['Role'][]>(['responder'])
function edit(p?: Schemas['Person']) {
  known.value = Boolean(p)
  name.value = p?.name ?? ''
  password.value = ''
  chosen.value = [...(p?.roles ?? (['responder'] as const))]
  adding.value = true
}
/** Sixteen letters of a kind that is read out over the phone without a mistake. */
function make() {
  const letters = 'abcdefghjkmnpqrstuvwxyz23456789'
  password.value = Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => letters[b % letters.length]).join('')
}
const add = () =>
  got(api.POST('/api/v1/people', { body: { name: name.value.trim(), password: password.value, roles: chosen.value } }))

const removing = ref<string>()
const sure = ref(false)
const remove = () => got(api.DELETE('/api/v1/people/{name}', { params: { path: { name: removing.value ?? '' } } }))

const making = ref(false)
const token = ref('')
const shown = ref('')
const days = ref('365')
const addToken = async () => {
  const r = await got(
    api.POST('/api/v1/tokens', { body: { name: token.value.trim(), roles: chosen.value, days: Number(days.value) } }),
  )
  shown.value = r.token
}
const ending = ref<string>()
const ends = ref(false)
const end = () => got(api.DELETE('/api/v1/tokens/{name}', { params: { path: { name: ending.value ?? '' } } }))
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>People and teams</h1>
      <v-btn color="primary" variant="flat" @click="edit()">Add a person</v-btn>
    </header>
    <SetupTable
      label="People"
      :rows="people.data.value"
      :error="people.error.value?.message"
      empty="Nobody is here yet."
      :columns="[
        { title: 'Name', key: 'name', value: (p) => p.name },
        { title: 'Roles', key: 'roles', value: (p) => p.roles.join(', ') },
        { title: 'Added', key: 'added', value: (p) => p.added_at, wide: true },
      ]"
    >
      <template #added="{ row }"><TimeAgo :at="row.added_at" /></template>
      <template #acts="{ row }">
        <v-btn size="small" variant="text" @click="edit(row)">Password and roles</v-btn>
        <v-btn size="small" variant="text" @click="((removing = row.name), (sure = true))">Remove</v-btn>
      </template>
    </SetupTable>
    <p class="faint">Teams, and who is on call, stand under <router-link to="/rotas">Rotas</router-link>.</p>

    <header class="head">
      <h2>Tokens of programs</h2>
      <v-btn size="small" @click="((chosen = ['viewer']), (token = ''), (shown = ''), (making = true))"
        >Make a token</v-btn
      >
    </header>
    <p v-if="shown" role="status" class="shown">
      The token of {{ token }}, shown once: <code class="mono">{{ shown }}</code>
    </p>
    <SetupTable
      label="Tokens"
      :rows="tokens.data.value"
      :error="tokens.error.value?.message"
      empty="No program has a token."
      :columns="[
        { title: 'Name', key: 'name', value: (t) => t.name },
        { title: 'Roles', key: 'roles', value: (t) => t.roles.join(', ') },
        { title: 'Made by', key: 'made', value: (t) => t.made_by ?? '', wide: true },
        { title: 'Last used', key: 'used', value: (t) => t.last_used_at ?? '', wide: true },
        { title: 'Ends', key: 'ends', value: (t) => t.expires_at },
      ]"
    >
      <template #used="{ row }"
        ><TimeAgo v-if="row.last_used_at" :at="row.last_used_at" /><template v-else>never</template></template
      >
      <template #ends="{ row }"><TimeAgo :at="row.expires_at" /></template>
      <template #acts="{ row }">
        <v-btn size="small" variant="text" @click="((ending = row.name), (ends = true))">End</v-btn>
      </template>
    </SetupTable>

    <FormDialog
      v-model="adding"
      :title="known ? `Password and roles of ${name}` : 'Add a person'"
      :button="known ? 'Set both' : 'Add'"
      :ready="Boolean(name.trim()) && password.length >= 10 && chosen.length > 0"
      :go="add"
      says="Tell them their password yourself: the service sends it to nobody."
      @done="people.refetch()"
    >
      <v-text-field
        v-if="!known"
        v-model="name"
        label="Name"
        hint="small letters, digits, dots and hyphens"
        persistent-hint
        autofocus
        maxlength="63"
      />
      <div class="row">
        <v-text-field v-model="password" label="Password, ten characters at least" hide-details autocomplete="off" />
        <v-btn @click="make">Make one</v-btn>
      </div>
      <div>
        <v-checkbox
          v-for="r in roles"
          :key="r.value"
          v-model="chosen"
          :value="r.value"
          :label="r.title"
          density="compact"
          hide-details
        />
      </div>
    </FormDialog>
    <FormDialog
      v-model="sure"
      :title="`Remove ${removing}?`"
      button="Remove"
      :go="remove"
      says="They can no longer sign in, and are called no more. What they did stays in the records."
      @done="people.refetch()"
    />
    <FormDialog
      v-model="making"
      title="Make a token"
      button="Make it"
      :ready="Boolean(token.trim()) && chosen.length > 0 && Number(days) > 0"
      :go="addToken"
      says="Its value is shown once. What is done with it counts as done by you."
      @done="tokens.refetch()"
    >
      <v-text-field v-model="token" label="Name of the program" hide-details autofocus maxlength="63" />
      <v-text-field v-model="days" label="Days that it counts" type="number" hide-details />
      <div>
        <v-checkbox
          v-for="r in roles"
          :key="r.value"
          v-model="chosen"
          :value="r.value"
          :label="r.title"
          density="compact"
          hide-details
        />
      </div>
    </FormDialog>
    <FormDialog
      v-model="ends"
      :title="`End the token of ${ending}?`"
      button="End it"
      :go="end"
      says="Whatever uses it is refused from now on."
      @done="tokens.refetch()"
    />
  </div>
</template>

<style scoped>
.row {
  display: flex;
  gap: 8px;
  align-items: center;
}
.shown {
  padding: 8px 12px;
  border-left: 4px solid rgb(var(--v-theme-success));
  overflow-wrap: anywhere;
}
</style>
