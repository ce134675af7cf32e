<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'

import { api, got, Refusal, type Schemas } from '../api/client'
import TimeAgo from '../components/TimeAgo.vue'
import TriedItem from '../components/TriedItem.vue'
import { useAttempt } from '../composables/attempt'
import { useDocument, useReadAgain, useTakeSample, useUnparsed } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const session = useSession()
const queries = useQueryClient()
const name = computed(() => String(route.params.name))
const q = useDocument('source', name)
const unparsed = useUnparsed(name, session.may('admin'))
const again = useReadAgain()
const { wrong, attempt } = useAttempt()

// The bench: the document may be altered here to see what that makes of the sample; nothing of it is kept.
const text = ref('')
watch(
  () => q.data.value?.text,
  (t) => (text.value = t ?? ''),
  { immediate: true },
)
const types = ['application/json', 'application/xml', 'application/x-www-form-urlencoded', 'text/plain']
const contentType = ref('application/json')
const sample = ref('')
const altered = computed(() => text.value !== (q.data.value?.text ?? ''))
const takes = computed(() => /^takes: *(\w+)/m.exec(text.value)?.[1] ?? 'http')
const mapped = computed(() => /^map:/m.test(text.value) || takes.value === 'syslog' || takes.value === 'trap')
const samples: Record<string, string> = {
  http: 'What the source sends',
  mail: 'A mail, with its head',
  syslog: 'A message of syslog',
  trap: 'A trap, as JSON',
}
const asked = refDebounced(
  computed(() => ({ body: sample.value, content_type: contentType.value, text: text.value })),
  350,
)
const tried = ref<Schemas['SourceTry']>()
const refused = ref('')
watch(asked, async (body) => {
  if (!body.body || !mapped.value) {
    tried.value = undefined
    refused.value = ''
    return
  }
  try {
    const answer = await got(api.POST('/api/v1/sources/{name}/try', { params: { path: { name: name.value } }, body }))
    if (body !== asked.value) return // another sample was given meanwhile
    tried.value = answer
    refused.value = ''
  } catch (e) {
    if (body === asked.value) refused.value = e instanceof Refusal ? e.message : String(e)
  }
})

function use(u: Schemas['Unparsed']) {
  sample.value = u.body
  contentType.value = u.content_type || 'text/plain'
}
const taken = ref<Schemas['Taken'][]>()
const take = useTakeSample()
const forReal = () =>
  attempt(
    async () => {
      const { body, content_type } = asked.value
      taken.value = await take.mutateAsync({ name: name.value, body: { body, content_type } })
    },
    () => void queries.invalidateQueries({ queryKey: ['unparsed'] }),
  )
watch(asked, () => (taken.value = undefined))
const read = (id: string) =>
  attempt(
    () => again.mutateAsync(id),
    () => void queries.invalidateQueries({ queryKey: ['unparsed'] }),
  )
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="q.data.value">
      <h1>{{ name }}</h1>
      <p class="faint">
        revision {{ q.data.value.number }} <span class="mono">{{ q.data.value.digest.slice(0, 12) }}</span> · pushed
        <TimeAgo :at="q.data.value.pushed_at" /> by {{ q.data.value.pushed_by }}
        <template v-if="q.data.value.origin"> · kept as text at {{ q.data.value.origin }}</template> ·
        <router-link :to="`/documents/source/${name}`">its document</router-link>
      </p>
      <template v-if="session.may('admin')">
        <h2>Cannot be read</h2>
        <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
        <table v-if="unparsed.data.value?.length" class="plain" aria-label="Unparsed payloads">
          <tbody>
            <tr v-for="u in unparsed.data.value" :key="u.id">
              <td class="faint"><TimeAgo :at="u.at" /></td>
              <td>{{ u.finding }}</td>
              <td class="acts">
                <v-btn size="x-small" @click="use(u)">Use as sample</v-btn>
                <ActButton size="x-small" :loading="again.isPending.value" @click="read(u.id)">Read again</ActButton>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-else class="empty">Nothing: all that came was read.</p>
        <div class="bench">
          <div>
            <h2>Sample</h2>
            <v-select
              v-if="takes === 'http'"
              v-model="contentType"
              :items="types"
              label="Content-Type"
              hide-details
              class="type"
            />
            <v-textarea v-model="sample" :label="samples[takes]" rows="8" hide-details class="mono" />
            <h2>Document <span v-if="altered" class="faint">altered here, and not kept</span></h2>
            <v-textarea v-model="text" label="What it means" rows="14" hide-details class="mono" spellcheck="false" />
          </div>
          <div aria-live="polite">
            <h2>What it becomes</h2>
            <p v-if="!mapped" class="empty">
              This source has no map: it sends Urgentis' own JSON or CloudEvents. Give it a
              <code class="mono">map:</code>
              on the left to try one.
            </p>
            <p v-else-if="!sample" class="empty">Paste what the source sends. Nothing of it has any effect here.</p>
            <p v-if="refused" role="alert" class="wrong">{{ refused }}</p>
            <template v-else-if="tried">
              <p v-if="tried.finding" class="wrong">It cannot be read: {{ tried.finding }}</p>
              <p v-else-if="!tried.items.length">It reports nothing.</p>
              <TriedItem
                v-for="(item, i) in tried.items"
                :key="i"
                :item="item"
                :title="tried.items.length > 1 ? `Item ${i + 1}` : 'The alert'"
              />
              <p v-if="tried.items.length && !altered" class="real">
                <ActButton size="small" :loading="take.isPending.value" @click="forReal">Take it for real</ActButton>
                <span class="faint">as if the source had sent it now: alerts, incidents, runbooks</span>
              </p>
              <ul v-if="taken" aria-label="Taken">
                <li v-for="(t, i) in taken" :key="i">
                  {{ t.change }}
                  <router-link v-if="t.incident" :to="`/incidents/${t.incident}`"
                    >incident {{ t.incident }}</router-link
                  >
                  {{ t.says }}
                </li>
              </ul>
            </template>
          </div>
        </div>
      </template>
      <pre v-else class="mono">{{ q.data.value.text }}</pre>
    </template>
  </div>
</template>

<style scoped>
.bench {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.25fr);
  gap: 28px;
}
.type {
  margin-bottom: 10px;
}
.real {
  display: flex;
  align-items: center;
  gap: 12px;
  margin-top: 14px;
}
.acts {
  white-space: nowrap;
  text-align: right;
}
.acts > * {
  margin-left: 6px;
}
.bench :deep(textarea) {
  font-family: var(--mono);
  font-size: 12.5px;
  line-height: 1.5;
}
@media (max-width: 900px) {
  .bench {
    grid-template-columns: 1fr;
  }
}
</style>
