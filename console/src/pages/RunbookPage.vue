<script setup lang="ts">
import { computed, ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { Refusal } from '../api/client'
import FlowGraph from '../components/FlowGraph.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { useRunbook, useRunbookGraph, useStart } from '../composables/data'
import { useSession } from '../composables/session'

const route = useRoute()
const router = useRouter()
const session = useSession()
const name = computed(() => String(route.params.name))
const q = useRunbook(name)
const b = computed(() => q.data.value)
const lines = computed(() => (b.value?.text ?? '').replace(/\n$/, '').split('\n'))
const noted = computed(() => new Map((b.value?.findings ?? []).map((f) => [f.line, f])))
const graph = useRunbookGraph(name)
const picked = ref(0)
/** Shows where the step of the picture stands in the text. */
function show(path: string) {
  picked.value = b.value?.steps.find((s) => s.path === path)?.line ?? 0
  document.getElementById(`line-${picked.value}`)?.scrollIntoView({ block: 'center' })
}
const start = useStart()
const asked = ref(false)
const inputs = ref<Record<string, string>>({})
const wrong = ref('')

/** Comments and keys stand apart; everything else is as written. */
function part(line: string): { indent: string; key: string; rest: string; comment: boolean } {
  const m = /^(\s*(?:- )?)([a-z_]+:)(.*)$/.exec(line)
  return m
    ? { indent: m[1] ?? '', key: m[2] ?? '', rest: m[3] ?? '', comment: false }
    : { indent: '', key: '', rest: line, comment: line.trim().startsWith('#') }
}

async function go() {
  wrong.value = ''
  try {
    const given = Object.fromEntries(Object.entries(inputs.value).filter(([, v]) => v !== ''))
    const r = await start.mutateAsync({ runbook: name.value, inputs: given })
    await router.push(`/runs/${r.id}`)
  } catch (e) {
    wrong.value = e instanceof Refusal ? e.message : String(e)
  }
}
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
        <v-btn type="submit" :loading="start.isPending.value">Start</v-btn>
        <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      </form>
      <p v-for="f in b.findings" :key="`${f.line}-${f.message}`" class="finding">line {{ f.line }}: {{ f.message }}</p>
      <div class="both">
        <div class="picture">
          <h2>Flow</h2>
          <FlowGraph v-if="graph.data.value" :graph="graph.data.value" @pick="show" />
        </div>
        <pre
          class="mono source"
          tabindex="0"
          aria-label="Text of the runbook"
        ><span v-for="(l, n) in lines" :id="`line-${n + 1}`" :key="n" class="line" :class="{ noted: noted.has(n + 1) || picked === n + 1 }"><span class="no">{{ n + 1 }}</span><template v-if="part(l).comment"><span class="comment">{{ l }}</span></template><template v-else>{{ part(l).indent }}<span class="key">{{ part(l).key }}</span>{{ part(l).rest }}</template>
</span></pre>
      </div>
    </template>
  </div>
</template>

<style scoped>
.head {
  display: flex;
  justify-content: space-between;
  gap: 20px;
  align-items: flex-start;
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
.wrong {
  color: rgb(var(--v-theme-error));
  grid-column: 1 / -1;
}
.finding {
  color: rgb(var(--v-theme-warning));
}
.both {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1fr);
  gap: 24px;
}
.source {
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.14);
  border-radius: 4px;
  padding: 10px 0;
  overflow: auto;
  max-height: 76vh;
  margin-top: 34px;
  line-height: 1.55;
}
.line {
  display: block;
  padding-right: 14px;
  min-height: 1.55em;
}
.line.noted {
  background: rgba(var(--v-theme-warning), 0.15);
}
.no {
  display: inline-block;
  width: 44px;
  padding-right: 14px;
  text-align: right;
  color: rgba(var(--v-theme-on-surface), 0.62);
  user-select: none;
}
.key {
  color: rgb(var(--v-theme-primary));
  font-weight: 550;
}
.comment {
  color: rgba(var(--v-theme-on-surface), 0.65);
}
@media (max-width: 900px) {
  .both {
    grid-template-columns: 1fr;
    gap: 0;
  }
}
</style>
