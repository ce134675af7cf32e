<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useQueryClient } from '@tanstack/vue-query'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, type Schemas } from '../api/client'
import TimeAgo from '../components/TimeAgo.vue'
import { useAttempt } from '../composables/attempt'
import { useFirings, useSwitch, useTrigger } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const session = useSession()
const queries = useQueryClient()
const name = computed(() => String(route.params.name))
const q = useTrigger(name)
const t = computed(() => q.data.value)
const firings = useFirings(name)
const words: Record<string, string> = {
  started: 'started',
  held: 'waits',
  dropped: 'waited in vain',
  back: 'suppressed',
  refused: 'could not start',
  already: 'under way already',
}

const { wrong, attempt } = useAttempt()
const opened = ref<Schemas['Firing']>()
const open = (id: number) =>
  attempt(async () => {
    const path = { trigger: name.value, firing: id }
    opened.value =
      opened.value?.id === id
        ? undefined
        : await got(api.GET('/api/v1/triggers/{trigger}/firings/{firing}', { params: { path } }))
  })

const because = ref('')
const flip = useSwitch(name)
const turn = (on: boolean) =>
  attempt(
    () => flip.mutateAsync({ on, because: because.value }),
    () => {
      because.value = ''
      void queries.invalidateQueries({ queryKey: ['trigger'] })
      void queries.invalidateQueries({ queryKey: ['triggers'] })
    },
  )
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="t">
      <h1>{{ t.name }}</h1>
      <p class="faint">
        starts <router-link :to="`/runbooks/${t.runbook}`">{{ t.runbook }}</router-link>
        <template v-if="t.document">
          · <router-link :to="`/documents/trigger/${t.name}`">a document of its own</router-link></template
        >
        <template v-if="t.next_at"> · due <TimeAgo :at="t.next_at" /></template>
      </p>
      <ul class="says">
        <li v-for="(s, i) in t.says" :key="i" :class="{ mono: i === 0 }">{{ s }}</li>
      </ul>
      <p v-if="t.off" class="off">Switched off by {{ t.off.by }} <TimeAgo :at="t.off.at" />: {{ t.off.because }}</p>
      <form v-if="session.may('operator')" class="switch" @submit.prevent="turn(!!t.off)">
        <v-text-field v-if="!t.off" v-model="because" label="Why it is switched off" hide-details maxlength="500" />
        <ActButton type="submit" size="small" :disabled="!t.off && !because.trim()" :loading="flip.isPending.value">{{
          t.off ? 'Switch it on again' : 'Switch it off'
        }}</ActButton>
      </form>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <h2>What came of it</h2>
      <table v-if="firings.data.value?.items.length" class="plain" aria-label="Firings">
        <thead>
          <tr>
            <th>When</th>
            <th>Outcome</th>
            <th>Incident</th>
            <th>Run</th>
            <th>Why</th>
            <th></th>
          </tr>
        </thead>
        <tbody v-for="f in firings.data.value.items" :key="f.id">
          <tr>
            <td><TimeAgo :at="f.at" /></td>
            <td :class="{ some: f.result === 'refused' }">{{ words[f.result] }}</td>
            <td>
              <router-link v-if="f.incident" :to="`/incidents/${f.incident}`">{{ f.incident }}</router-link>
            </td>
            <td>
              <router-link v-if="f.run" :to="`/runs/${f.run}`" class="mono">{{ f.run.slice(0, 8) }}…</router-link>
            </td>
            <td class="faint">{{ f.why }}</td>
            <td class="acts">
              <v-btn size="x-small" :aria-expanded="opened?.id === f.id" @click="open(f.id)">What was sent</v-btn>
            </td>
          </tr>
          <tr v-if="opened?.id === f.id">
            <td colspan="6">
              <p v-if="!opened.payload?.body && opened.alert" class="empty">
                It came in our own form: <router-link :to="`/alerts/${opened.alert}`">its alert</router-link> says all
                of it.
              </p>
              <p v-else-if="!opened.payload?.body" class="empty">Nothing was sent, or it is no longer kept.</p>
              <template v-else>
                <p class="faint">{{ opened.payload.content_type }}, <TimeAgo :at="opened.payload.at" /></p>
                <pre class="mono body">{{ opened.payload.body }}</pre>
              </template>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-else-if="firings.isSuccess.value" class="empty">
        Its occasion has not come in the last 30 days. Try one with
        <code class="mono">urgentis source try SOURCE --why</code>.
      </p>
    </template>
  </div>
</template>

<style scoped>
.acts {
  text-align: right;
}
.body {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  font-size: 12.5px;
}
.says {
  margin: 10px 0 14px;
  padding-left: 18px;
}
.off,
.some {
  color: rgb(var(--v-theme-warning));
  font-weight: 600;
}
.switch {
  display: grid;
  grid-template-columns: minmax(0, 420px) auto;
  gap: 12px;
  align-items: center;
  justify-content: start;
}
</style>
