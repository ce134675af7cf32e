<script setup lang="ts">
import { computed } from 'vue'

import type { Schemas } from '../api/client'
import { clockTime, exact, span } from '../composables/clock'
import {
  group,
  human,
  notHad,
  readings,
  say,
  waitsForPerson,
  word,
  type Content,
  type Group,
} from '../composables/record'
import OutputFold from './OutputFold.vue'

const props = defineProps<{ entries: Schemas['Entry'][]; picked?: number; again?: boolean; busy?: string }>()
const emit = defineEmits<{ again: [look: Schemas['NewLook']] }>()
const groups = computed(() => group(props.entries))
const exit = (c: Content) => (c.exit === undefined ? c.state : `${c.exit >= 200 ? 'status' : 'exit'} ${c.exit}`)
const list = (o?: Record<string, unknown>) =>
  Object.entries(o ?? {})
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([k, v]) => `${k}=${say(v)}`)
    .join('  ')
/** The look whose entries these are, as it is taken again; none for what is no look. */
function lookOf(g: Group): Schemas['NewLook'] | undefined {
  const e = g.lines[0]?.entry
  return e?.kind.startsWith('look.') && e.step && e.run ? { step: e.step, run: e.run } : undefined
}
</script>

<template>
  <ol class="record">
    <li v-for="(g, i) in groups" :key="`${g.key}-${i}`" class="group">
      <div v-if="g.lines.length > 1 || g.verb" class="title">
        {{ g.title }}
        <button
          v-if="again && lookOf(g)"
          type="button"
          class="again"
          :disabled="busy !== undefined"
          @click="emit('again', lookOf(g)!)"
        >
          {{ busy === lookOf(g)?.step ? 'looking…' : 'look again' }}
        </button>
      </div>
      <div
        v-for="{ entry: e, content: c } in g.lines"
        :id="`entry-${e.seq}`"
        :key="e.seq"
        class="entry"
        :class="{ human: human(e), person: waitsForPerson(e), picked: picked === e.seq }"
      >
        <time :datetime="e.at" :title="exact(e.at)" class="mono faint">{{ clockTime(e.at) }}</time>
        <span class="word" :class="[e.kind.replace('.', '-'), c.state]">{{ word(e) }}</span>
        <div class="body">
          <template v-if="e.kind.startsWith('look.') || e.kind === 'change.ended' || e.kind === 'undo.done'">
            <span class="target">{{ c.target || 'this host' }}</span>
            <span v-for="r in readings(c)" :key="r.name" class="reading"
              ><span class="faint">{{ r.name }}</span> <span class="mono">{{ r.text }}</span></span
            >
            <span class="faint num">{{ exit(c) }}, {{ span(c.took_ms ?? 0) }}</span>
            <div v-if="c.error" class="problem">{{ c.error }}</div>
            <div v-for="m in notHad(c)" :key="m" class="problem">{{ m }}</div>
            <OutputFold :shown="c.shown ?? ''" :output="c.output" :stderr="c.stderr" />
          </template>
          <template v-else-if="e.kind.startsWith('check.') || e.kind === 'change.still'">
            <span v-for="v in c.values" :key="v.part" class="reading"
              ><span class="mono faint">{{ v.part }}</span> is <span class="mono">{{ v.text }}</span></span
            >
            <span v-if="(c.rounds ?? 1) > 1" class="faint">after {{ c.rounds }} times</span>
            <div v-if="c.unsure" class="problem">{{ c.unsure }}</div>
            <div v-for="d in c.differences" :key="`${d.target}${d.at}`">
              <span class="target">{{ d.target }}</span> <span class="mono faint">{{ d.at }}</span> {{ d.says }}
            </div>
          </template>
          <template v-else-if="e.kind === 'gate.raised'">
            <div v-for="r in c.requests" :key="r.target">
              <code class="mono">{{ r.shown }}</code> <span class="faint">on {{ r.target }}</span>
            </div>
            <div class="faint">asks {{ c.ask }}, because {{ c.reasons?.join('; ') }}</div>
          </template>
          <template v-else-if="e.kind === 'change.begun' || e.kind === 'undo.begun'">
            <code class="mono">{{ c.shown }}</code> <span class="faint">on {{ c.target || 'this host' }}</span>
          </template>
          <template v-else>
            <span>{{ e.title }}</span>
            <div v-if="human(e) && e.kind !== 'note'" class="by">
              by <strong>{{ e.actor }}</strong><template v-if="c.comment">: “{{ c.comment }}”</template>
            </div>
            <div v-if="e.kind === 'note' && !e.actor.startsWith('runbook:')" class="by">
              by <strong>{{ e.actor }}</strong>
            </div>
            <div v-if="e.kind.startsWith('alert.')" class="faint">
              {{ c.severity }} from {{ e.actor.replace('source:', '') }} <span class="mono">{{ list(c.labels) }}</span>
            </div>
            <div v-if="e.kind === 'run.begun'" class="faint">
              by {{ c.started_by }} <span class="mono">{{ list(c.inputs) }}</span>
            </div>
            <div v-if="e.kind === 'each.begun'" class="faint">{{ c.items?.join(', ') }}</div>
            <div v-if="e.kind === 'lock.given-back'" class="faint">{{ c.keys?.join(', ') }}</div>
            <div v-if="e.kind === 'lock.awaited'" class="faint">which holds {{ c.key }}</div>
            <div v-if="e.kind === 'question.answered' && c.fields" class="mono faint">{{ list(c.fields) }}</div>
            <div v-if="e.kind === 'call.begun'" class="mono faint">{{ list(c.inputs) }}</div>
            <div v-if="e.kind === 'call.ended'" class="mono faint">{{ list(c.results) }}</div>
            <div v-for="m in notHad(c)" :key="m" class="problem">{{ m }}</div>
            <div v-if="c.text && c.text !== e.title" class="text">{{ c.text }}</div>
            <div v-if="e.kind === 'change.cleared'" class="faint">{{ c.reasons?.join('; ') }}</div>
            <div v-if="c.not_told" class="problem">
              the alert's source is not told to {{ c.source }}: {{ c.not_told }}
            </div>
            <div v-else-if="c.source && e.kind === 'told'" class="faint">
              the alert's source is told to {{ c.source }}
            </div>
            <div v-if="c.because && e.kind !== 'run.ended'" class="text">{{ c.because }}</div>
          </template>
        </div>
      </div>
    </li>
  </ol>
</template>

<style scoped>
.record {
  list-style: none;
  padding: 0;
}
/* A long record costs what is seen of it, and can be searched and printed whole. */
.group {
  content-visibility: auto;
  contain-intrinsic-size: auto 60px;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  padding: 6px 0;
}
.title {
  font-weight: 600;
  padding-left: 168px;
}
.again {
  background: none;
  border: 0;
  padding: 2px 4px;
  font-weight: 400;
  font-size: 13px;
  margin-left: 8px;
  color: rgb(var(--v-theme-primary));
  text-decoration: underline;
}
.entry {
  display: grid;
  grid-template-columns: 70px 90px 1fr;
  gap: 4px;
  align-items: baseline;
  padding: 1px 0;
}
.entry.human {
  background: rgba(var(--v-theme-primary), 0.1);
  border-radius: 3px;
  padding: 4px 0;
}
.entry.picked {
  outline: 2px solid rgb(var(--v-theme-primary));
  border-radius: 3px;
}
.word {
  font-weight: 600;
  font-size: 12.5px;
}
.person .word,
.step-troubled,
.lock-awaited,
.check-unsure,
.word.unknown,
.look-incomplete {
  color: rgb(var(--v-theme-warning));
}
.word.failed {
  color: rgb(var(--v-theme-error));
}
.check-passes,
.incident-closed {
  color: rgb(var(--v-theme-success));
}
.target {
  font-weight: 550;
  margin-right: 12px;
}
.reading {
  margin-right: 14px;
}
.body {
  min-width: 0;
  overflow-wrap: anywhere;
}
.problem {
  color: rgb(var(--v-theme-warning));
}
.text {
  white-space: pre-wrap;
}
@media (max-width: 700px) {
  .title {
    padding-left: 0;
  }
  .entry {
    grid-template-columns: 64px 1fr;
  }
  .body {
    grid-column: 1 / -1;
    padding-left: 0;
    margin-bottom: 4px;
  }
}
</style>
