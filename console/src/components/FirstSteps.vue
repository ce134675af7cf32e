<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { computed } from 'vue'

import { api, got } from '../api/client'
import { useOnCall, useRunbooks, useServices, useSources } from '../composables/data'
import { useSession } from '../composables/session'
import StateShape from './StateShape.vue'

/** What a new installation needs until the first alert leads to the first approval, and how much of it is there. */
const session = useSession()
const admin = session.may('admin')
const people = useQuery({ queryKey: ['people'], queryFn: () => got(api.GET('/api/v1/people')), enabled: admin })
const targets = useQuery({ queryKey: ['targets'], queryFn: () => got(api.GET('/api/v1/targets')) })
const teams = useOnCall()
const services = useServices()
const sources = useSources()
const runbooks = useRunbooks()
const steps = computed(() => [
  {
    done: (people.data.value?.length ?? 0) > 1,
    to: '/people',
    title: 'Add people',
    says: 'Somebody who approves: whoever started a run, or wrote its text, does not approve it alone.',
  },
  {
    done: Boolean(teams.data.value?.length),
    to: '/documents/team',
    title: 'Write down a team and its rota',
    says: 'Who is called, and in which order.',
  },
  {
    done: Boolean(services.data.value?.length),
    to: '/services',
    title: 'Add a service',
    says: 'What runbooks look after, who owns it, and whom it harms when it is in trouble.',
  },
  {
    done: Boolean(targets.data.value?.length),
    to: '/targets',
    title: 'Add its targets',
    says: 'The hosts that may be looked at and changed.',
  },
  {
    done: Boolean(sources.data.value?.length),
    to: '/sources',
    title: 'Add a source',
    says: 'A monitor that reports alerts, with a token of its own.',
  },
  {
    done: Boolean(runbooks.data.value?.length),
    to: '/documents/runbook',
    title: 'Write a runbook',
    says: 'Or take one from the library, and bind it to the service.',
  },
])
const loaded = computed(() => services.isSuccess.value && runbooks.isSuccess.value && sources.isSuccess.value)
const left = computed(() => steps.value.filter((s) => !s.done).length)
</script>

<template>
  <section v-if="admin && loaded && left" class="first" aria-label="First steps">
    <h2>First steps</h2>
    <ol>
      <li v-for="s in steps" :key="s.title" :class="{ done: s.done }">
        <StateShape :name="s.done ? 'tick' : 'dash'" />
        <span
          ><router-link :to="s.to">{{ s.title }}</router-link
          ><span v-if="s.done" class="unseen">, done</span> <span class="faint"> {{ s.says }}</span></span
        >
      </li>
    </ol>
  </section>
</template>

<style scoped>
.first {
  padding: 4px 16px 12px;
  margin-top: 16px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-radius: 6px;
}
.first h2 {
  margin: 8px 0;
}
ol {
  list-style: none;
  padding: 0;
}
li {
  display: flex;
  gap: 10px;
  align-items: baseline;
  padding: 6px 0;
}
.done {
  color: rgba(var(--v-theme-on-surface), 0.76);
}
.unseen {
  position: absolute;
  width: 1px;
  height: 1px;
  overflow: hidden;
  clip-path: inset(50%);
}
</style>
