<script setup lang="ts">
import { computed, ref } from 'vue'

import { api, got } from '../api/client'
import TimeAgo from '../components/TimeAgo.vue'
import { useListeners, useSources, useUnparsed } from '../composables/data'
import { useSession } from '../composables/session'
import FormDialog from '../components/FormDialog.vue'

const session = useSession()
const q = useSources()
const adding = ref(false)
const name = ref('')
const back = ref('')
const shown = ref('')
const at = window.location.origin
const add = async () => {
  name.value = name.value.trim()
  const r = await got(
    api.POST('/api/v1/sources', {
      body: {
        name: name.value,
        call_back: back.value.trim() || undefined,
        key: 'token',
        auth: 'sha256',
        priv: 'aes',
        keep_minutes: 0,
      },
    }),
  )
  shown.value = r.token
}
const unparsed = useUnparsed(undefined, session.may('admin'))
const listeners = useListeners(session.may('admin'))
const count = computed(() => {
  const by = new Map<string, number>()
  for (const u of unparsed.data.value ?? []) by.set(u.source, (by.get(u.source) ?? 0) + 1)
  return by
})
</script>

<template>
  <div class="page">
    <header class="head">
      <h1>Sources</h1>
      <v-btn v-if="session.may('admin')" color="primary" variant="flat" @click="((name = ''), (adding = true))"
        >Add a source</v-btn
      >
    </header>
    <p v-if="shown" role="status" class="shown">
      {{ name }} reports to <code class="mono">{{ at }}/in/{{ name }}</code> with this token, shown once:
      <code id="token" class="mono">{{ shown }}</code>
    </p>
    <table v-if="q.data.value?.length" class="plain" aria-label="Sources">
      <thead>
        <tr>
          <th>Source</th>
          <th>Takes</th>
          <th>Last alert</th>
          <th v-if="session.may('admin')">Unparsed</th>
          <th class="wide">Told back at</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="s in q.data.value" :key="s.name">
          <td>
            <router-link :to="`/sources/${s.name}`">{{ s.name }}</router-link>
          </td>
          <td class="faint">{{ s.takes }}</td>
          <td>
            <TimeAgo v-if="s.last_alert_at" :at="s.last_alert_at" />
            <span v-else class="faint">never</span>
          </td>
          <td v-if="session.may('admin')" class="num">
            <strong v-if="count.get(s.name)" class="some">{{ count.get(s.name) }} cannot be read</strong>
            <span v-else class="faint">none</span>
          </td>
          <td class="wide mono faint">{{ s.call_back }}</td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="q.isSuccess.value" class="empty">Nothing reports yet. Add the monitor whose alerts are to come in.</p>
    <template v-if="session.may('admin')">
      <h2>Listeners</h2>
      <table v-if="listeners.data.value?.length" class="plain" aria-label="Listeners">
        <thead>
          <tr>
            <th>Listener</th>
            <th>At</th>
            <th class="num">Heard</th>
            <th class="num">Of no source</th>
            <th class="num">Lost</th>
            <th class="num wide">Waits on disk</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in listeners.data.value" :key="l.host + l.name">
            <td>{{ l.name }}</td>
            <td class="mono faint">{{ l.address }} on {{ l.host }}</td>
            <td class="num">{{ l.heard }}</td>
            <td class="num">
              {{ l.strange }} <span v-if="l.stranger" class="faint">last from {{ l.stranger }}</span>
            </td>
            <td class="num" :class="{ some: l.lost > 0 }">{{ l.lost }}</td>
            <td class="num wide faint">{{ Math.round(l.waiting / 1024) }} kB</td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="listeners.isSuccess.value" class="empty">
        Only HTTP is listened to. Syslog, traps and mail are switched on where the service runs:
        <code class="mono">urgentis serve --syslog-udp 0.0.0.0:514</code>.
      </p>
    </template>
    <p v-if="q.error.value" role="alert">{{ q.error.value.message }}</p>
    <FormDialog
      v-model="adding"
      title="Add a source"
      button="Add"
      :ready="Boolean(name.trim())"
      :go="add"
      says="Its token is shown once. What it sends in a form of its own is read by a map, which is a document."
      @done="q.refetch()"
    >
      <v-text-field
        v-model="name"
        label="Name"
        hint="small letters, digits and hyphens"
        persistent-hint
        autofocus
        maxlength="63"
      />
      <v-text-field
        v-model="back"
        label="Address that is told of closed incidents (may be empty)"
        hide-details
        maxlength="500"
      />
    </FormDialog>
  </div>
</template>

<style scoped>
.shown {
  padding: 8px 12px;
  margin-bottom: 8px;
  border-left: 4px solid rgb(var(--v-theme-success));
  overflow-wrap: anywhere;
}
.some {
  color: rgb(var(--v-theme-warning));
  font-weight: 600;
}
</style>
