<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { FlowGraph } from '../components/lazy'
import DocumentText from '../components/DocumentText.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { useAttempt } from '../composables/attempt'
import { useRunbook, useRunbookGraph, useStart } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const name = computed(() => String(route.params.name))
const q = useRunbook(name)
const b = computed(() => q.data.value)
const graph = useRunbookGraph(name)
const picked = ref(0)
/** Shows where the step of the picture stands in the text. */
function show(path: string) {
  picked.value = b.value?.steps.find((s) => s.path === path)?.line ?? 0
}
const start = useStart()
const asked = ref(false)
const inputs = ref<Record<string, string>>({})
const { wrong, attempt } = useAttempt()

const go = () =>
  attempt(async () => {
    const given = Object.fromEntries(Object.entries(inputs.value).filter(([, v]) => v !== ''))
    const r = await start.mutateAsync({ runbook: name.value, inputs: given })
    await router.push(`/runs/${r.id}`)
  })
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-if="b">
      <header class="head">
        <div>
          <p class="faint mono">{{ b.name }}</p>
          <h1>{{ b.title }}</h1>
          <p class="faint">
            {{ b.service }} · owned by {{ b.owner }} · revision {{ b.number }}
            <span class="mono">{{ b.revision.slice(0, 12) }}</span> · pushed <TimeAgo :at="b.pushed_at" /> by
            {{ b.pushed_by }}
          </p>
          <p v-if="b.about" class="about">{{ b.about }}</p>
          <p v-if="b.links?.length" class="faint">
            Pages outside, opened from its runs: {{ b.links.map((l) => l.title).join(', ') }}
          </p>
        </div>
        <v-btn v-if="session.may('operator')" size="small" @click="asked = !asked">Start by hand</v-btn>
      </header>
      <form v-if="asked" class="start" @submit.prevent="go">
        <v-text-field
          v-for="i in b.inputs"
          :key="i.name"
          v-model="inputs[i.name]"
          :label="i.label || i.name"
          :hint="i.default ? `default ${i.default}` : (i.pattern ?? i.type)"
          persistent-hint
        />
        <ActButton type="submit" :loading="start.isPending.value">Start</ActButton>
        <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      </form>
      <p v-for="f in b.findings" :key="`${f.line}-${f.message}`" class="finding">line {{ f.line }}: {{ f.message }}</p>
      <div class="both">
        <div class="picture">
          <h2>Flow</h2>
          <FlowGraph v-if="graph.data.value" :graph="graph.data.value" @pick="show" />
        </div>
        <div class="words">
          <h2>
            Text
            <router-link v-if="session.may('author')" class="edit" :to="`/documents/runbook/${b.name}`"
              >alter it</router-link
            >
          </h2>
          <DocumentText :text="b.text" :findings="b.findings" :line="picked" label="Text of the runbook" />
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.edit {
  font-size: 13px;
  font-weight: 400;
  margin-left: 10px;
}
.about {
  max-width: 70ch;
  margin-top: 8px;
  white-space: pre-line;
}
.start {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr)) auto;
  gap: 12px;
  align-items: start;
  margin-top: 14px;
}
.start .wrong {
  grid-column: 1 / -1;
}
.finding {
  color: rgb(var(--v-theme-warning));
}
</style>
