<script setup lang="ts">
import { ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import ActButton from './ActButton.vue'

/** A runbook that is being written, played without changing anything. */
const props = defineProps<{ text: string; inputs: Schemas['Input'][]; sound: boolean }>()
const how = ref<NonNullable<Schemas['NewRehearsal']['how']>>('without-effects')
const ways = [
  { title: 'Without touching anything', value: 'without-effects' },
  { title: 'Take its looks, change nothing', value: 'looks-only' },
  { title: 'Against recorded runs', value: 'against-the-past' },
]
const given = ref<Record<string, string>>({})
const played = ref<Schemas['Rehearsal']>()
/** The text that was played. */
const of = ref('')
const { wrong, busy, attempt } = useAttempt()
const go = () =>
  attempt(async () => {
    const text = props.text
    const inputs = Object.fromEntries(Object.entries(given.value).filter(([, v]) => v !== ''))
    played.value = undefined
    played.value = await got(api.POST('/api/v1/rehearsals', { body: { text, how: how.value, inputs, past: 10 } }))
    of.value = text
  })
</script>

<template>
  <div>
    <form class="ask" @submit.prevent="go">
      <v-select v-model="how" label="How" :items="ways" density="compact" hide-details />
      <template v-if="how !== 'against-the-past'">
        <v-text-field
          v-for="i in inputs"
          :key="i.name"
          v-model="given[i.name]"
          :label="i.label || i.name"
          :hint="i.default ? `default ${i.default}` : i.type"
          persistent-hint
          density="compact"
        />
      </template>
      <ActButton type="submit" size="small" :loading="busy" :disabled="!sound">Rehearse</ActButton>
    </form>
    <p v-if="!sound" class="faint">It can be rehearsed once the text has no error.</p>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
    <div v-if="played" aria-live="polite">
      <p v-if="of !== text" class="wait">The text was altered since.</p>
      <p>
        <strong>{{ played.outcome || played.state || 'It came to no end' }}</strong><template v-if="played.because"
          >: {{ played.because }}</template
        >
      </p>
      <p v-if="played.totals" class="faint">
        {{ played.totals.looks }} looks, {{ played.totals.changes }} changes, {{ played.totals.gates }} gates,
        {{ played.totals.questions }} questions<template v-if="played.totals.targets.length"
          >, on {{ played.totals.targets.join(', ') }}</template
        >
      </p>
      <div class="scroll" tabindex="0" role="region" aria-label="What it would do">
        <ol class="lines">
          <li v-for="(l, i) in played.lines" :key="i" :style="{ paddingLeft: `${l.depth * 16}px` }">
            <span v-if="l.branch" class="faint branch">{{ l.branch }}</span>
            <span class="verb faint">{{ l.verb }}</span> {{ l.title
            }}<template v-if="l.target"> on {{ l.target }}</template
            ><template v-else-if="l.on"> on {{ l.on }}</template>
            <code v-if="l.shown" class="mono">{{ l.shown }}</code>
            <code v-if="l.undo" class="mono">undo: {{ l.undo }}</code>
            <span v-if="l.says" class="says">{{ l.says }}</span>
            <span v-for="n in l.notes" :key="n" class="faint says">{{ n }}</span>
          </li>
        </ol>
      </div>
      <table v-if="played.past?.length" class="plain" aria-label="Recorded runs">
        <thead>
          <tr>
            <th>Run</th>
            <th>Then</th>
            <th>Now</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="p in played.past" :key="p.run">
            <td>
              <router-link :to="`/runs/${p.run}`" class="mono">{{ p.run.slice(0, 10) }}</router-link>
            </td>
            <td>{{ p.then }}</td>
            <td :class="{ wait: !p.same }">{{ p.same ? 'the same' : p.now }}</td>
          </tr>
        </tbody>
      </table>
    </div>
  </div>
</template>

<style scoped>
.ask {
  display: grid;
  gap: 10px;
  justify-items: start;
}
.ask > :not(button) {
  width: 100%;
}
.scroll {
  max-height: 46vh;
  overflow: auto;
}
.lines {
  list-style: none;
  padding: 0;
  font-size: 13px;
  line-height: 18px;
}
.lines li {
  padding: 4px 0;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
.verb {
  display: inline-block;
  min-width: 52px;
}
.branch,
.says,
code {
  display: block;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
