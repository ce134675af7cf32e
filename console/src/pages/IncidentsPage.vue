<script setup lang="ts">
import { useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'

import { api, got, type Schemas } from '../api/client'
import IncidentRows from '../components/IncidentRows.vue'
import { useAttempt } from '../composables/attempt'
import { useIncidents, useSearches } from '../composables/data'

const text = ref('')
const state = ref<'open' | 'closed' | null>(null)
const severity = ref<string | null>(null)
const words = refDebounced(text, 300)
const rest = ref<Partial<Schemas['Search']>>({})
const narrowed = computed(() => ({
  text: words.value.trim() || undefined,
  state: state.value ?? undefined,
  severity: severity.value ?? undefined,
  ...rest.value,
}))
const first = useIncidents(undefined, 25, narrowed)
const more = ref<Schemas['Incident'][]>([])
const next = ref<string>()
watch(narrowed, () => (more.value = []))
watch(
  first.data,
  (d) => {
    if (!more.value.length) next.value = d?.next
  },
  { immediate: true },
)

async function older() {
  const query = { ...narrowed.value, limit: 25, cursor: next.value }
  const p = await got(api.GET('/api/v1/incidents', { params: { query } }))
  more.value.push(...p.items)
  next.value = p.next
}

const searches = useSearches()
const queries = useQueryClient()
const { wrong, attempt } = useAttempt()
const keptAs = ref('')
const changed = () => void queries.invalidateQueries({ queryKey: ['searches'] })
function use(s: Schemas['Search']) {
  text.value = s.text ?? ''
  state.value = s.state ?? null
  severity.value = s.severity ?? null
  rest.value = { service: s.service, outcome: s.outcome, holder: s.holder, label: s.label, source: s.source }
}
const keep = () =>
  attempt(
    () =>
      got(
        api.PUT('/api/v1/searches/{name}', {
          params: { path: { name: keptAs.value } },
          body: { name: keptAs.value, ...narrowed.value },
        }),
      ),
    () => {
      keptAs.value = ''
      changed()
    },
  )
const forget = (name: string) =>
  attempt(() => got(api.DELETE('/api/v1/searches/{name}', { params: { path: { name } } })), changed)
/** What is looked for beside the fields of the page, because a kept search does. */
const beside = computed(() => Object.entries(rest.value).filter(([, v]) => v))
const some = computed(() => Object.values(narrowed.value).some(Boolean))
</script>

<template>
  <div class="page">
    <h1>Incidents</h1>
    <form class="narrow" role="search" @submit.prevent>
      <v-text-field
        v-model="text"
        label="Search titles, reasons, alerts and notes"
        placeholder='pump or lamp, "ramp 2", -test'
        hide-details
        clearable
        maxlength="200"
      />
      <v-select v-model="state" :items="['open', 'closed']" label="State" hide-details clearable />
      <v-select
        v-model="severity"
        :items="['critical', 'major', 'minor', 'warning']"
        label="Severity"
        hide-details
        clearable
      />
    </form>
    <p v-if="beside.length" class="beside">
      and
      <span v-for="[k, v] in beside" :key="k" class="mono">{{ k }} {{ v }} </span>
      <v-btn size="x-small" variant="text" @click="rest = {}">look without</v-btn>
    </p>
    <div v-if="searches.data.value?.length || some" class="kept">
      <span v-for="s in searches.data.value" :key="s.name" class="one">
        <v-btn size="x-small" variant="tonal" @click="use(s)">{{ s.name }}</v-btn>
        <button type="button" class="quiet" :aria-label="`Forget ${s.name}`" title="Forget it" @click="forget(s.name)">
          ×
        </button>
      </span>
      <form v-if="some" class="keep" @submit.prevent="keep">
        <v-text-field v-model="keptAs" label="Keep this search as" hide-details density="compact" maxlength="63" />
        <v-btn type="submit" size="small" :disabled="!keptAs.trim()">Keep</v-btn>
      </form>
    </div>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
    <IncidentRows
      v-if="first.data.value?.items.length"
      :items="[...first.data.value.items, ...more]"
      label="Incidents"
    />
    <p v-else-if="first.isSuccess.value && some" class="empty">No incident is like that.</p>
    <p v-else-if="first.isSuccess.value" class="empty">
      No incident was ever opened. Add a source of alerts with <code class="mono">urgentis source add NAME</code>.
    </p>
    <p v-if="first.error.value" role="alert">{{ first.error.value.message }}</p>
    <v-btn v-if="next" class="mt-4" @click="older">Older ones</v-btn>
  </div>
</template>

<style scoped>
.narrow {
  display: grid;
  grid-template-columns: minmax(0, 1fr) 160px 160px;
  gap: 12px;
  margin: 8px 0 18px;
}
.kept {
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 14px;
  margin: -6px 0 14px;
}
.one {
  display: inline-flex;
  align-items: center;
}
.one .quiet {
  min-width: 24px;
  min-height: 24px;
}
.keep {
  display: flex;
  gap: 8px;
  align-items: center;
}
.keep > :first-child {
  width: 220px;
}
@media (max-width: 700px) {
  .narrow {
    grid-template-columns: 1fr;
  }
}
</style>
