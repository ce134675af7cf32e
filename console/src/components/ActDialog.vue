<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRouter } from 'vue-router'

import { api, got, type Schemas } from '../api/client'
import { useOnCall } from '../composables/data'
import FormDialog from './FormDialog.vue'

/** What is done with an incident by a person: each asks for what it needs, and says what it does. */
const props = defineProps<{ act: string; incident: Schemas['Incident']; alerts: Schemas['Alert'][] }>()
const emit = defineEmits<{ done: []; closed: [] }>()
const open = ref(true)
const router = useRouter()
const teams = useOnCall()
const because = ref('')
const to = ref<string | null>(null)
const into = ref('')
const title = ref(props.incident.title)
const severity = ref(props.incident.severity_by ? props.incident.severity : 'auto')
const picked = ref<string[]>([])
const name = ref('')
const url = ref('')
const outcome = ref<Schemas['Closing']['outcome']>('repaired-by-hand')
const outcomes = [
  { title: 'repaired by hand', value: 'repaired-by-hand' },
  { title: 'mitigated', value: 'mitigated' },
  { title: 'false alarm', value: 'false-alarm' },
  { title: 'cleared itself', value: 'cleared-itself' },
  { title: 'not repaired', value: 'not-repaired' },
]
const people = computed(() => [...new Set((teams.data.value ?? []).flatMap((t) => t.members))].sort())
const at = { params: { path: { number: props.incident.number } } }
const reason = () => because.value.trim() || undefined

interface Act {
  title: string
  says: string
  button: string
  ready: () => boolean
  do: () => Promise<unknown>
}
const acts: Record<string, Act> = {
  close: {
    title: 'Close by hand',
    says: 'Alerts that are still open are named in the record as left over.',
    button: 'Close the incident',
    ready: () => Boolean(because.value.trim()),
    do: () =>
      got(
        api.POST('/api/v1/incidents/{number}/close', {
          ...at,
          body: { outcome: outcome.value, because: because.value.trim() },
        }),
      ),
  },
  reassign: {
    title: 'Reassign',
    says: 'They are called until they take it; whoever has it now is called after them.',
    button: 'Reassign',
    ready: () => Boolean(to.value),
    do: () =>
      got(api.PUT('/api/v1/incidents/{number}/holder', { ...at, body: { to: to.value ?? '', because: reason() } })),
  },
  'give-back': {
    title: 'Give back',
    says: 'It is unclaimed then; where it is bad, whoever is on call is called anew.',
    button: 'Give back',
    ready: () => true,
    do: () =>
      got(api.PUT('/api/v1/incidents/{number}/holder', { ...at, body: { give_back: true, because: reason() } })),
  },
  reopen: {
    title: 'Open again',
    says: 'Whoever is on call is called, as for a new incident.',
    button: 'Open again',
    ready: () => Boolean(because.value.trim()),
    do: () => got(api.POST('/api/v1/incidents/{number}/reopen', { ...at, body: { because: because.value.trim() } })),
  },
  edit: {
    title: 'Title and severity',
    says: 'What is set by hand follows the alerts no more. A severity of “as its alerts” follows the worst one again.',
    button: 'Set',
    ready: () => Boolean(title.value.trim()),
    do: () =>
      got(
        api.PUT('/api/v1/incidents/{number}/head', {
          ...at,
          body: {
            title: title.value.trim() === props.incident.title ? undefined : title.value.trim(),
            severity: severity.value as 'auto',
          },
        }),
      ),
  },
  merge: {
    title: 'Make part of another incident',
    says: 'Its alerts go there. Its record stays, and both say so.',
    button: 'Make it part',
    ready: () => /^\d+$/.test(into.value.trim()),
    do: async () => {
      const other = await got(
        api.POST('/api/v1/incidents/{number}/merge', { ...at, body: { into: Number(into.value), because: reason() } }),
      )
      await router.push(`/incidents/${other.number}`)
    },
  },
  split: {
    title: 'Split alerts off',
    says: 'They get an incident of their own.',
    button: 'Split off',
    ready: () => picked.value.length > 0 && picked.value.length < props.alerts.length,
    do: async () => {
      const other = await got(
        api.POST('/api/v1/incidents/{number}/split', { ...at, body: { alerts: picked.value, because: reason() } }),
      )
      await router.push(`/incidents/${other.number}`)
    },
  },
  link: {
    title: 'Add a link',
    says: 'It stands under Around, and in the record.',
    button: 'Add the link',
    ready: () => Boolean(name.value.trim() && url.value.trim()),
    do: () =>
      got(
        api.POST('/api/v1/incidents/{number}/links', {
          ...at,
          body: { name: name.value.trim(), url: url.value.trim() },
        }),
      ),
  },
}
const a = computed(() => acts[props.act])
watch(open, (yes) => yes || emit('closed'))
</script>

<template>
  <FormDialog
    v-if="a"
    v-model="open"
    :title="a.title"
    :says="a.says"
    :button="a.button"
    :ready="a.ready()"
    :go="a.do"
    @done="emit('done')"
  >
    <v-select v-if="act === 'close'" v-model="outcome" :items="outcomes" label="Outcome" hide-details />
    <v-combobox v-if="act === 'reassign'" v-model="to" :items="people" label="To whom" hide-details autofocus />
    <template v-if="act === 'edit'">
      <v-text-field v-model="title" label="Title" hide-details maxlength="200" autofocus />
      <v-select
        v-model="severity"
        :items="[{ title: 'as its alerts', value: 'auto' }, 'critical', 'major', 'minor', 'warning']"
        label="Severity"
        hide-details
      />
    </template>
    <v-text-field
      v-if="act === 'merge'"
      v-model="into"
      label="Number of the other incident"
      inputmode="numeric"
      hide-details
      maxlength="12"
      autofocus
    />
    <div v-if="act === 'split'" class="alerts">
      <v-checkbox
        v-for="x in alerts.slice(0, 200)"
        :key="x.id"
        v-model="picked"
        :value="x.id"
        :label="`${x.severity}: ${x.summary}`"
        density="compact"
        hide-details
      />
    </div>
    <template v-if="act === 'link'">
      <v-text-field v-model="name" label="Name" hide-details maxlength="200" autofocus />
      <v-text-field v-model="url" label="Address, as https://…" hide-details maxlength="2000" />
    </template>
    <v-text-field
      v-if="act !== 'edit' && act !== 'link'"
      v-model="because"
      label="Why, for the record"
      hide-details
      maxlength="500"
    />
  </FormDialog>
</template>

<style scoped>
.alerts {
  max-height: 40vh;
  overflow-y: auto;
}
</style>
