<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { computed, inject, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { sentLink, useAnswer } from '../composables/data'
import { useSession } from '../composables/session'
import AnswersTable from './AnswersTable.vue'
import BriefSide from './BriefSide.vue'
import CommandList from './CommandList.vue'
import DecisionBar from './DecisionBar.vue'
import FactsTable from './FactsTable.vue'
import WaitingPanel from './WaitingPanel.vue'
import StateShape from './StateShape.vue'

const props = defineProps<{ question: Schemas['Question']; banded?: boolean }>()
const emit = defineEmits<{ said: [] }>()
const session = useSession()
const link = inject(sentLink, null)
const may = (role: Schemas['Role']) => (link ? link.opened.may.includes(role) : session.may(role))
const answer = useAnswer()
const comment = ref('')
const { wrong, attempt } = useAttempt()
const fields = ref<Record<string, string>>(
  Object.fromEntries((props.question.fields ?? []).map((f) => [f.name, f.suggest ?? ''])),
)
const words: Record<string, string> = {
  happened: 'It happened',
  'in-part': 'It happened in part',
  'did-not-happen': 'It did not happen',
  again: 'Do it again',
}
// A question with many answers leaves no room for a drawing on a phone; the trend is said in words.
const small = useMediaQuery('(max-width: 700px)')
const commenting = ref(false)
const brief = computed(() => props.question.brief)
const approving = computed(() => options.value.find((o) => o.approves))
const options = computed(() =>
  props.question.options?.length ? props.question.options : [{ choice: '', label: 'Answer' }],
)
const labels = computed(() => Object.fromEntries(options.value.map((o) => [o.choice, words[o.choice] ?? o.label])))
const barred = computed(() => options.value.filter((o) => o.barred))
const needsApprover = (o: Schemas['Option']) =>
  Boolean(o.approves) || (o.choice === 'again' && Boolean(props.question.attempt))

const say = (choice: string) =>
  attempt(
    () => answer.mutateAsync({ id: props.question.id, choice, comment: comment.value.trim(), fields: fields.value }),
    () => emit('said'),
  )
</script>

<template>
  <WaitingPanel wanted="Answer needed" :from="`from ${question.ask}`" :until="question.until">
    <h2 class="what">{{ question.attempt ? 'What became of it?' : question.title }}</h2>
    <p v-if="question.text" class="how">{{ question.text }}</p>
    <p v-if="brief?.parts.length" class="approves">
      “{{ approving?.label }}” approves: <strong>{{ brief.headline.what }}</strong>;
      <template v-if="brief.headline.back"><StateShape name="undo" /> {{ brief.headline.back }}</template
      ><strong v-if="brief.headline.cannot"
        ><template v-if="brief.headline.back">; </template><StateShape name="no-undo" />
        {{ brief.headline.cannot }}</strong
      >
    </p>
    <div class="sides">
      <div class="left">
        <AnswersTable class="options" :answers="brief?.answers ?? []" :labels="labels" />
        <p v-for="o in barred" :key="o.choice" class="faint">{{ labels[o.choice] }}: not now, {{ o.barred }}</p>
        <template v-if="brief?.parts.length">
          <p>
            {{ brief.headline.what }}<template v-if="brief.headline.how">, {{ brief.headline.how }}</template>
          </p>
          <CommandList :parts="brief.parts" :folded="small" />
        </template>
      </div>
      <BriefSide v-if="brief" class="right" :brief="brief" :undrawn="small" :banded="banded" />
    </div>
    <div v-if="may('responder') && question.fields?.length" class="fields">
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
    <DecisionBar :missing="question.brief?.missing" :wrong="wrong">
      <template v-if="may('responder')">
        <v-btn
          v-for="o in options"
          :key="o.choice"
          class="choice"
          :disabled="answer.isPending.value || Boolean(o.barred) || (needsApprover(o) && !may('approver'))"
          @click="say(o.choice)"
          >{{ words[o.choice] ?? o.label }}</v-btn
        >
        <v-btn v-if="!commenting" size="small" variant="text" @click="commenting = true">Comment</v-btn>
        <v-textarea
          v-else
          v-model="comment"
          class="comment"
          label="Comment for the record"
          rows="1"
          density="compact"
          auto-grow
          hide-details
          maxlength="5000"
        />
      </template>
      <p v-else class="faint">You may look at this question; whoever answers it needs the role responder.</p>
    </DecisionBar>
    <template v-if="brief?.facts.length">
      <h3 class="evidence">Evidence</h3>
      <FactsTable :facts="brief.facts" />
    </template>
  </WaitingPanel>
</template>

<style scoped>
.evidence {
  margin-top: 24px;
}
.comment {
  flex: 1;
  min-width: 160px;
}
.choice {
  max-width: 100%;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px;
  margin: 10px 0;
}
@media (max-width: 700px) {
  .right {
    order: -1;
  }
  .comment {
    flex-basis: 100%;
  }
  .choice {
    height: auto;
    min-height: 34px;
    padding: 4px 10px;
    white-space: normal;
  }
}
</style>
