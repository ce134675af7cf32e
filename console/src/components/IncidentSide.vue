<script setup lang="ts">
import ActButton from './ActButton.vue'
import LinkList from './LinkList.vue'
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, relative, useClock } from '../composables/clock'
import { andList } from '../composables/list'
import { useAround, useEscalations, useMessages } from '../composables/data'
import { useSession } from '../composables/session'
import SuggestPanel from './SuggestPanel.vue'

/** Beside an open incident: who has it and who is called next, suggested runbooks, what changed before it, and who knows. */
const props = defineProps<{
  incident: Schemas['Incident']
  tickets: Schemas['Ticket'][]
  running: boolean
  busy: boolean
  links: Schemas['PageLink'][]
}>()
const emit = defineEmits<{ take: [] }>()
const session = useSession()
const now = useClock()
const around = useAround(() => props.incident.number)
const escalations = useEscalations(() => props.incident.number)
const messages = useMessages(() => props.incident.number)
const own = computed(() => (escalations.data.value ?? []).find((e) => !e.thing) ?? escalations.data.value?.[0])
const next = computed(() => own.value?.later?.[0])
const changes = computed(() => (around.data.value?.before ?? []).filter((m) => m.what !== 'incident').slice(0, 4))
const told = computed(() => {
  const by = new Map<string, { to: string; at: string; state: string }>()
  for (const m of messages.data.value?.items ?? []) {
    if (m.to.startsWith('desk/') || m.to.startsWith('source/')) continue
    const old = by.get(m.to)
    if (!old || old.at < m.queued_at) by.set(m.to, { to: m.to, at: m.queued_at, state: m.state })
  }
  return [...by.values()].slice(0, 5)
})
const words: Record<string, string> = {
  sent: 'sent',
  queued: 'on its way',
  failed: 'did not arrive',
  dropped: 'not sent',
}
</script>

<template>
  <aside class="side" aria-label="Beside it">
    <section v-if="!incident.holder" class="claim" aria-label="Owner">
      <div>
        <h2>Unclaimed</h2>
        <p v-if="next" class="next">
          escalates to <b>{{ andList(next.people) }}</b>
          <b class="num soon" :title="exact(next.at)">&nbsp;{{ relative(next.at, now) }}</b>
        </p>
        <p v-else class="faint">nobody else is called by itself</p>
        <p v-if="own?.missed" class="wrong">Not told: {{ own.missed }}</p>
      </div>
      <ActButton
        v-if="session.may('responder')"
        id="take-beside"
        color="primary"
        variant="flat"
        :loading="busy"
        @click="emit('take')"
        >Take</ActButton
      >
    </section>
    <section v-else class="claim held" aria-label="Owner">
      <div>
        <h2>{{ incident.holder === session.me?.name ? 'You have it' : `${incident.holder} has it` }}</h2>
        <p v-if="incident.held_at" class="faint">
          since <span :title="exact(incident.held_at)" class="num">{{ clockTime(incident.held_at) }}</span>
        </p>
        <p v-else class="faint">not taken yet</p>
        <p v-if="next" class="next">
          then <b>{{ andList(next.people) }}</b> <b class="num">{{ relative(next.at, now) }}</b>
        </p>
      </div>
    </section>
    <SuggestPanel v-if="!running" :number="incident.number" />
    <section v-if="changes.length" aria-label="Changes before it">
      <h2>Changes before it</h2>
      <ul class="lst">
        <li v-for="m in changes" :key="m.at + m.title">
          <span
            ><b>{{ m.title }}</b
            ><span v-if="m.by" class="faint"> by {{ m.by }}</span>
            <span v-if="m.service !== incident.service" class="faint">, on {{ m.service }}</span></span
          >
          <span class="num faint" :title="exact(m.at)">{{ relative(m.at, now) }}</span>
        </li>
      </ul>
    </section>
    <section v-if="told.length || tickets.length" aria-label="Who knows">
      <h2>Who knows</h2>
      <ul class="lst">
        <li v-for="t in told" :key="t.to">
          <span>{{ t.to }}</span>
          <span class="num faint" :title="exact(t.at)">{{ words[t.state] ?? t.state }} {{ clockTime(t.at) }}</span>
        </li>
        <li v-for="t in tickets" :key="t.desk + t.number">
          <span
            >{{ t.desk }}, ticket
            <a v-if="t.link" :href="t.link" target="_blank" rel="noreferrer">{{ t.number }}</a><template v-else>{{
              t.number
            }}</template></span
          >
          <span class="faint">{{ t.state }}</span>
        </li>
      </ul>
    </section>
    <section v-if="links.length">
      <h2>Pages outside</h2>
      <LinkList :links="links" />
    </section>
  </aside>
</template>

<style scoped>
.side {
  display: flex;
  flex-direction: column;
  gap: 20px;
  min-width: 0;
}
.side > section > h2,
.side :deep(.suggest h2) {
  font-size: 14px;
  line-height: 20px;
  margin: 0 0 4px;
}
.claim {
  display: flex;
  gap: 12px;
  align-items: center;
  justify-content: space-between;
  padding: 12px 16px 12px 14px;
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-left: 6px solid rgb(var(--v-theme-warning));
  border-radius: 6px;
}
.claim h2 {
  margin: 0;
}
.held {
  border-left-color: rgba(var(--v-theme-on-surface), 0.3);
}
.next {
  font-size: 13px;
}
.soon {
  color: rgb(var(--v-theme-warning));
}
.lst li > :last-child {
  white-space: nowrap;
}
</style>
