<script setup lang="ts">
import { computed, ref, watch } from 'vue'

import { api, got } from '../api/client'
import { useIncidents, useObjectives, useOnCall, useServices } from '../composables/data'
import { percent, standing } from '../composables/objective'
import { useSession } from '../composables/session'
import FormDialog from '../components/FormDialog.vue'

const session = useSession()
const teams = useOnCall()
const adding = ref(false)
const stances = [
  { title: 'need approval', value: 'ask' as const },
  { title: 'run without approval', value: 'act' as const },
  { title: 'are only suggested', value: 'suggest' as const },
]
const empty = {
  name: '',
  title: '',
  owner: '',
  harm: '',
  stance: 'ask' as 'ask' | 'act' | 'suggest',
  needs: [] as string[],
}
const n = ref({ ...empty })
function edit() {
  n.value = { ...empty, owner: teams.data.value?.[0]?.team ?? '' }
  adding.value = true
}
watch(
  () => teams.data.value,
  (t) => {
    if (adding.value && !n.value.owner) n.value.owner = t?.[0]?.team ?? ''
  },
)
const add = () =>
  got(
    api.POST('/api/v1/services', {
      body: {
        name: n.value.name.trim(),
        title: n.value.title.trim() || undefined,
        owner: n.value.owner,
        harm: n.value.harm.trim() || undefined,
        stance: n.value.stance,
        depends_on: n.value.needs,
      },
    }),
  )
const services = useServices()
const objectives = useObjectives()
const incidents = useIncidents('open', 200)
const rows = computed(() =>
  (services.data.value ?? [])
    .map((s) => {
      const its = (objectives.data.value ?? []).filter((o) => o.service === s.name)
      const worst = its.map(standing).sort((a, b) => a.rank - b.rank)[0]
      const open = (incidents.data.value?.items ?? []).filter((i) => i.service === s.name)
      return { s, its, worst, open }
    })
    .sort(
      (a, b) =>
        b.open.length - a.open.length ||
        (a.worst?.rank ?? 9) - (b.worst?.rank ?? 9) ||
        a.s.name.localeCompare(b.s.name),
    ),
)
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>Services</h1>
      <v-btn v-if="session.may('admin')" color="primary" variant="flat" @click="edit">Add a service</v-btn>
    </header>
    <table v-if="rows.length" class="plain" aria-label="Services">
      <thead>
        <tr>
          <th>Service</th>
          <th>Open</th>
          <th>Objectives</th>
          <th class="num wide">Left of the budget</th>
          <th class="wide">Owner</th>
          <th class="wide">Needs</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.s.name">
          <td>
            <router-link :to="`/services/${r.s.name}`">{{ r.s.title || r.s.name }}</router-link>
            <div class="faint mono">{{ r.s.name }}</div>
          </td>
          <td>
            <router-link v-for="i in r.open.slice(0, 3)" :key="i.number" :to="`/incidents/${i.number}`" class="gap">
              {{ i.number }}
            </router-link>
            <span v-if="r.open.length > 3" class="faint">and {{ r.open.length - 3 }} more</span>
            <span v-if="!r.open.length" class="faint">none</span>
          </td>
          <td :class="{ wrong: r.worst?.bad, faint: !r.worst }">{{ r.worst?.word ?? 'none' }}</td>
          <td class="num wide">
            <div v-for="o in r.its" :key="o.name">{{ percent(o.left) }}</div>
          </td>
          <td class="wide">{{ r.s.owner }}</td>
          <td class="wide faint">{{ (r.s.depends_on ?? []).join(', ') }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="services.isSuccess.value" class="empty">
      No services yet. Add the first one that runbooks look after.
    </p>
    <FormDialog
      v-model="adding"
      title="Add a service"
      button="Add"
      :ready="Boolean(n.name.trim() && n.owner)"
      :go="add"
      @done="services.refetch()"
    >
      <v-text-field
        v-model="n.name"
        label="Name"
        hint="small letters, digits and hyphens"
        persistent-hint
        autofocus
        maxlength="63"
      />
      <v-text-field v-model="n.title" label="Title" hide-details maxlength="200" />
      <v-combobox
        v-model="n.owner"
        label="Team that owns it"
        :items="(teams.data.value ?? []).map((t) => t.team)"
        hide-details
      />
      <v-textarea
        v-model="n.harm"
        label="Whom it harms when it is in trouble, and how"
        rows="2"
        hide-details
        maxlength="200"
      />
      <v-select v-model="n.stance" label="Changes" :items="stances" hide-details />
      <v-autocomplete
        v-model="n.needs"
        label="Services that it needs"
        :items="(services.data.value ?? []).map((s) => s.name)"
        multiple
        hide-details
      />
    </FormDialog>
    <p v-if="services.error.value" role="alert" class="empty">{{ services.error.value.message }}</p>
  </div>
</template>

<style scoped>
.gap {
  margin-right: 8px;
}
</style>
