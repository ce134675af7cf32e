<script setup lang="ts">
import { computed, ref } from 'vue'

import { Refusal, type Schemas } from '../api/client'
import { exact, relative, useClock } from '../composables/clock'
import { useAnswer } from '../composables/data'
import { useSession } from '../composables/session'

const props = defineProps<{ question: Schemas['Question'] }>()
const session = useSession()
const now = useClock()
const answer = useAnswer()
const comment = ref('')
const wrong = ref('')
const fields = ref<Record<string, string>>(
  Object.fromEntries((props.question.fields ?? []).map((f) => [f.name, f.suggest ?? ''])),
)
const words: Record<string, string> = {
  happened: 'It happened',
  'did-not-happen': 'It did not happen',
  again: 'Do it again',
}
const options = computed(() =>
  props.question.options?.length ? props.question.options : [{ choice: '', label: 'Answer' }],
)
const needsApprover = (o: Schemas['Option']) =>
  Boolean(o.approves) || (o.choice === 'again' && Boolean(props.question.attempt))

async function say(choice: string) {
  wrong.value = ''
  try {
    await answer.mutateAsync({ id: props.question.id, choice, comment: comment.value.trim(), fields: fields.value })
  } catch (e) {
    wrong.value = e instanceof Refusal ? e.message : String(e)
  }
}
</script>

<template>
  <section class="question" :aria-label="`An answer is wanted: ${question.title || question.text}`">
    <header>
      <strong><span aria-hidden="true">◐</span> Answer wanted</strong>
      <span class="faint"
        >from {{ question.ask }} · ends
        <span :title="exact(question.until)" class="num">{{ relative(question.until, now) }}</span></span
      >
    </header>
    <h3 v-if="question.title && !question.attempt">{{ question.title }}</h3>
    <p v-if="question.text">{{ question.text }}</p>
    <template v-if="session.may('responder')">
      <div v-if="question.fields?.length" class="fields">
        <template v-for="f in question.fields" :key="f.name">
          <v-select
            v-if="f.choices?.length"
            v-model="fields[f.name]"
            :items="f.choices"
            :label="f.label || f.name"
            hide-details
          />
          <v-text-field v-else v-model="fields[f.name]" :label="f.label || f.name" :hint="f.type" persistent-hint />
        </template>
      </div>
      <v-textarea v-model="comment" label="Comment for the record" rows="1" auto-grow hide-details maxlength="5000" />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <ul class="options">
        <li v-for="o in options" :key="o.choice">
          <v-btn
            :disabled="answer.isPending.value || Boolean(o.barred) || (needsApprover(o) && !session.may('approver'))"
            @click="say(o.choice)"
            >{{ words[o.choice] ?? o.label }}</v-btn
          >
          <div>
            <pre v-for="r in o.requests ?? []" :key="r.target" class="mono">
on {{ r.target || 'this host' }}: {{ r.shown }}</pre>
            <span v-if="o.approves" class="faint">this answer approves the change</span>
            <span v-if="o.barred" class="faint">not now: {{ o.barred }}</span>
          </div>
        </li>
      </ul>
    </template>
  </section>
</template>

<style scoped>
.question {
  border: 1px solid rgb(var(--v-theme-warning));
  border-left-width: 4px;
  border-radius: 4px;
  padding: 12px 16px 16px;
  background: rgb(var(--v-theme-surface));
  margin: 14px 0;
}
header strong {
  color: rgb(var(--v-theme-warning));
}
h3 {
  font-size: 16px;
  font-weight: 650;
  margin: 4px 0;
}
p {
  margin: 8px 0;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px;
  margin-bottom: 10px;
}
.options {
  list-style: none;
  padding: 0;
  margin-top: 12px;
  display: grid;
  gap: 8px;
}
.options li {
  display: flex;
  gap: 14px;
  align-items: center;
  flex-wrap: wrap;
}
pre {
  background: rgba(var(--v-theme-on-surface), 0.06);
  padding: 4px 10px;
  border-radius: 3px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.wrong {
  color: rgb(var(--v-theme-error));
}
</style>
