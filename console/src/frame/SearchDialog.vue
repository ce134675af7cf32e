<script setup lang="ts">
import { useQuery } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, nextTick, onMounted, ref, useTemplateRef, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, got } from '../api/client'
import { useRunbooks, useServices } from '../composables/data'
import { useSession } from '../composables/session'
import { pages } from './pages'

/** Finds pages, incidents, services and runbooks by a few letters, and does what is done from anywhere. */
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ act: [name: 'halt' | 'turn' | 'keys' | 'leave'] }>()
const props = defineProps<{ halted: boolean }>()

const router = useRouter()
const session = useSession()
const input = useTemplateRef<HTMLInputElement>('input')
onMounted(() => nextTick(() => input.value?.focus()))
const text = ref('')
const words = refDebounced(text, 150)
const services = useServices()
const runbooks = useRunbooks()
const wanted = computed(() => text.value.trim().toLowerCase())
const incidents = useQuery({
  queryKey: computed(() => ['incidents', 'search', words.value.trim()]),
  queryFn: () => got(api.GET('/api/v1/incidents', { params: { query: { limit: 6, text: words.value.trim() } } })),
  enabled: () => words.value.trim().length > 1 && !/^\d+$/.test(words.value.trim()),
})

interface Found {
  kind: string
  title: string
  beside?: string | null
  to?: string
  act?: 'halt' | 'turn' | 'keys' | 'leave'
}
const few = 6
const found = computed<Found[]>(() => {
  const w = wanted.value
  const has = (...texts: (string | null | undefined)[]) => !w || texts.some((t) => t?.toLowerCase().includes(w))
  const acts: Found[] = [
    ...(session.may('operator')
      ? [{ kind: 'Act', title: props.halted ? 'Let changes go on' : 'Halt all changes', act: 'halt' as const }]
      : []),
    ...(session.may('responder') ? [{ kind: 'Act', title: 'Open an incident', to: '/incidents?new' }] : []),
    { kind: 'Act', title: 'Light or dark', act: 'turn' },
    { kind: 'Act', title: 'Keys', act: 'keys' },
    { kind: 'Act', title: 'Sign out', act: 'leave' },
  ]
  const number = /^\d+$/.test(w) ? [{ kind: 'Incident', title: `Incident ${w}`, to: `/incidents/${w}` }] : []
  return [
    ...number,
    ...(w && !number.length ? (incidents.data.value?.items ?? []) : []).map((i) => ({
      kind: 'Incident',
      title: `${i.number} ${i.title}`,
      beside: i.state === 'open' ? 'open' : i.outcome,
      to: `/incidents/${i.number}`,
    })),
    ...pages
      .filter((p) => (!p.role || session.may(p.role)) && has(p.title))
      .map((p) => ({ kind: 'Page', title: p.title, to: p.to })),
    ...(w ? (services.data.value ?? []) : [])
      .filter((s) => has(s.name, s.title))
      .slice(0, few)
      .map((s) => ({ kind: 'Service', title: s.title || s.name, beside: s.name, to: `/services/${s.name}` })),
    ...(w ? (runbooks.data.value ?? []) : [])
      .filter((r) => has(r.name, r.title))
      .slice(0, few)
      .map((r) => ({ kind: 'Runbook', title: r.title || r.name, beside: r.name, to: `/runbooks/${r.name}` })),
    ...acts.filter((a) => has(a.title)),
  ]
})
const at = ref(0)
watch(found, () => (at.value = Math.min(at.value, Math.max(0, found.value.length - 1))))
watch(wanted, () => (at.value = 0))
watch(open, (yes) => yes && (text.value = ''))

async function go(f: Found | undefined) {
  if (!f) return
  open.value = false
  if (f.to) await router.push(f.to)
  else if (f.act) emit('act', f.act)
}
async function move(by: number) {
  const n = found.value.length
  if (!n) return
  at.value = (at.value + by + n) % n
  await nextTick()
  document.getElementById(`found-${at.value}`)?.scrollIntoView({ block: 'nearest' })
}
</script>

<template>
  <v-dialog v-model="open" max-width="640" aria-label="Search or act" @after-enter="input?.focus()">
    <div class="sheet">
      <input
        id="find"
        ref="input"
        v-model="text"
        autofocus
        type="search"
        role="combobox"
        aria-expanded="true"
        aria-controls="found"
        :aria-activedescendant="found.length ? `found-${at}` : undefined"
        aria-label="Search or act"
        placeholder="An incident's number or words, a service, a runbook, a page, an act"
        maxlength="200"
        autocomplete="off"
        @keydown.down.prevent="move(1)"
        @keydown.up.prevent="move(-1)"
        @keydown.enter.prevent="go(found[at])"
      />
      <ul id="found" role="listbox" aria-label="Found">
        <!-- The focus stays in the field, whose keys choose among these (a combobox by ARIA 1.2). -->
        <!-- eslint-disable-next-line vuejs-accessibility/click-events-have-key-events, vuejs-accessibility/interactive-supports-focus -->
        <li
          v-for="(f, i) in found"
          :id="`found-${i}`"
          :key="`${f.kind} ${f.title}`"
          role="option"
          :aria-selected="i === at"
          @click="go(f)"
          @mousemove="at = i"
        >
          <span class="kind">{{ f.kind }}</span> <span class="what">{{ f.title }}</span>
          <span class="faint">{{ f.beside }}</span>
        </li>
      </ul>
      <p v-if="!found.length" role="status" class="none">
        {{ incidents.isFetching.value ? 'Searching…' : `Nothing is called “${text.trim()}”.` }}
      </p>
    </div>
  </v-dialog>
</template>

<style scoped>
.sheet {
  background: rgb(var(--v-theme-surface));
  border-radius: 6px;
  overflow: hidden;
  display: flex;
  flex-direction: column;
  max-height: 70vh;
}
input {
  padding: 14px 16px;
  border: 0;
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  background: none;
  color: inherit;
  font: inherit;
  font-size: 16px;
}
input:focus-visible {
  outline-offset: -2px;
}
ul {
  list-style: none;
  padding: 6px 0;
  overflow-y: auto;
}
li {
  display: flex;
  gap: 12px;
  align-items: baseline;
  min-height: 32px;
  padding: 6px 16px;
  cursor: pointer;
}
li[aria-selected='true'] {
  background: rgba(var(--v-theme-primary), 0.12);
}
.kind {
  width: 68px;
  flex: none;
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
.what {
  flex: 1;
  overflow-wrap: anywhere;
}
.none {
  padding: 12px 16px;
}
</style>
