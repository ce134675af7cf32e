<script setup lang="ts">
import { useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, ref, watch } from 'vue'

import { api, got } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { useSession } from '../composables/session'
import StateShape from '../components/StateShape.vue'

// How somebody is reached: in which order, what is verified, and when not for what can wait.
const session = useSession()
const name = computed(() => session.me?.person ?? '')
const cache = useQueryClient()
const { wrong, busy, attempt } = useAttempt()
const said = ref('')
const path = computed(() => ({ params: { path: { name: name.value } } }))
const q = useQuery({
  queryKey: computed(() => ['reach', name.value]),
  queryFn: () => got(api.GET('/api/v1/people/{name}/reach', path.value)),
  enabled: computed(() => name.value !== ''),
})
const contacts = computed(() => q.data.value?.contacts ?? [])

const connection = ref('')
const address = ref('')
const codes = ref<Record<number, string>>({})
const hours = ref('')
const zone = ref(Intl.DateTimeFormat().resolvedOptions().timeZone)
watch(q.data, (d) => {
  if (!d) return
  hours.value = d.quiet ?? ''
  zone.value = d.quiet_zone || zone.value
})

const act = (says: string, what: () => Promise<unknown>) => {
  said.value = ''
  return attempt(what, () => {
    said.value = says
    void cache.invalidateQueries({ queryKey: ['reach'] })
  })
}
const one = (id: number) => ({ params: { path: { name: name.value, id } } })
const add = () =>
  act('A code was sent there. Enter it beside the contact method.', async () => {
    try {
      await got(
        api.POST('/api/v1/people/{name}/contacts', {
          ...path.value,
          body: { connection: connection.value.trim(), address: address.value.trim() },
        }),
      )
      address.value = ''
    } finally {
      void cache.invalidateQueries({ queryKey: ['reach'] })
    }
  })
const prove = (id: number) =>
  act('Verified: you are reached there from now on.', () => {
    const code = (codes.value[id] ?? '').trim()
    codes.value[id] = ''
    return got(api.POST('/api/v1/people/{name}/contacts/{id}/verification', { ...one(id), body: { code } }))
  })
const again = (id: number) =>
  act('Another code was sent.', () => got(api.POST('/api/v1/people/{name}/contacts/{id}/code', one(id))))
const remove = (id: number) => act('Forgotten.', () => got(api.DELETE('/api/v1/people/{name}/contacts/{id}', one(id))))
const first = (id: number) =>
  act('It is tried first now.', () =>
    got(
      api.PUT('/api/v1/people/{name}/contacts', {
        ...path.value,
        body: [id, ...contacts.value.map((w) => w.id).filter((x) => x !== id)],
      }),
    ),
  )
const quiet = () =>
  act('Set. What is urgent comes at any hour.', () =>
    got(
      api.PUT('/api/v1/people/{name}/quiet', { ...path.value, body: { hours: hours.value.trim(), zone: zone.value } }),
    ),
  )
</script>

<template>
  <div class="page">
    <h1>{{ name }}</h1>
    <p class="faint">How you are reached when something is urgent, in this order. Only verified methods are used.</p>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
    <table v-if="contacts.length" class="plain" aria-label="How you are reached">
      <thead>
        <tr>
          <th scope="col">Channel</th>
          <th scope="col">Address</th>
          <th scope="col">State</th>
          <th scope="col"><span class="sr">What can be done</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(w, n) in contacts" :key="w.id">
          <td>{{ w.connection }}</td>
          <td class="mono">{{ w.address }}</td>
          <td>
            <span v-if="w.verified"><StateShape name="tick" /> verified</span>
            <form v-else class="code" @submit.prevent="prove(w.id)">
              <strong><StateShape name="pennant" /> not verified</strong>
              <v-text-field v-model="codes[w.id]" label="Code" density="compact" hide-details maxlength="12" />
              <v-btn type="submit" size="small" :disabled="busy">Verify</v-btn>
              <v-btn size="small" variant="text" :disabled="busy" @click="again(w.id)">Another code</v-btn>
            </form>
          </td>
          <td class="acts">
            <v-btn v-if="n > 0" size="small" variant="text" :disabled="busy" @click="first(w.id)">Move to top</v-btn>
            <v-btn size="small" variant="text" :disabled="busy" @click="remove(w.id)">Remove</v-btn>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">
      You cannot be reached yet: nobody could call you at night. Add a contact method below.
    </p>
    <p v-if="said" role="status">{{ said }}</p>
    <p v-if="wrong" role="alert">{{ wrong }}</p>
    <h2>Add a contact method</h2>
    <form class="row" @submit.prevent="add">
      <v-text-field v-model="connection" label="Connection, such as harbour-mail" hide-details maxlength="63" />
      <v-text-field v-model="address" label="Mail address, number or name there" hide-details maxlength="250" />
      <v-btn type="submit" :disabled="busy || !connection.trim() || !address.trim()">Add, and send a code</v-btn>
    </form>
    <h2>Quiet hours</h2>
    <p class="faint">In them you are not told of what can wait.</p>
    <form class="row" @submit.prevent="quiet">
      <v-text-field v-model="hours" label="Each day, such as 22:00-07:00" hide-details maxlength="20" />
      <v-text-field v-model="zone" label="Time zone" hide-details maxlength="60" />
      <v-btn type="submit" :disabled="busy">Set</v-btn>
    </form>
  </div>
</template>

<style scoped>
.row {
  display: flex;
  gap: 12px;
  align-items: start;
  max-width: 46rem;
}
.row .v-btn {
  margin-top: 6px;
}
.code {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
}
.code .v-input {
  min-width: 7rem;
  max-width: 9rem;
}
.acts {
  text-align: right;
}
.sr {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
@media (max-width: 700px) {
  .row {
    flex-direction: column;
    align-items: stretch;
  }
}
</style>
