<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { useAnswer } from '../composables/data'
import { useSession } from '../composables/session'
import WaitingPanel from './WaitingPanel.vue'

const props = defineProps<{ question: Schemas['Question'] }>()
const session = useSession()
const answer = useAnswer()
const comment = ref('')
const { wrong, attempt } = useAttempt()
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

const say = (choice: string) =>
  attempt(() =>
    answer.mutateAsync({ id: props.question.id, choice, comment: comment.value.trim(), fields: fields.value }),
  )
</script>

<template>
  <WaitingPanel
    wanted="Answer wanted"
    :title="question.attempt ? '' : question.title"
    :from="`from ${question.ask}`"
    :until="question.until"
  >
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
  </WaitingPanel>
</template>

<style scoped>
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
</style>
