<script setup lang="ts">
import { useMediaQuery } from '@vueuse/core'
import { computed, inject, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { clockTime, exact } from '../composables/clock'
import { sentLink, useAnswer } from '../composables/data'
import { useSession } from '../composables/session'
import AnswersTable from './AnswersTable.vue'
import BriefSide from './BriefSide.vue'
import ChoiceCard from './ChoiceCard.vue'
import CommandList from './CommandList.vue'
import DecisionBar from './DecisionBar.vue'
import FactsTable from './FactsTable.vue'
import QuestionHelp from './QuestionHelp.vue'
import StateShape from './StateShape.vue'
import WaitingPanel from './WaitingPanel.vue'
import WayTrail from './WayTrail.vue'

/** A question of a procedure: where one is, what is asked, a card for each answer, and what helps to decide. */
const props = defineProps<{ question: Schemas['Question']; banded?: boolean }>()
const emit = defineEmits<{ said: [] }>()
const session = useSession()
const link = inject(sentLink, null)
const may = (role: Schemas['Role']) => (link ? link.opened.may.includes(role) : session.may(role))
const answer = useAnswer()
const comment = ref('')
const { wrong, attempt } = useAttempt()
const busy = computed(() => answer.isPending.value)
const fields = ref<Record<string, string>>(
  Object.fromEntries((props.question.fields ?? []).map((f) => [f.name, f.suggest ?? ''])),
)
const words: Record<string, string> = {
  happened: 'It happened',
  'in-part': 'It happened in part',
  'did-not-happen': 'It did not happen',
  again: 'Do it again',
  none_of_these: 'None of these',
}
const small = useMediaQuery('(max-width: 700px)')
const commenting = ref(false)
const brief = computed(() => props.question.brief)
const way = computed(() => props.question.way ?? [])
const before = computed(() => way.value.filter((w) => !w.open).at(-1))
const options = computed(() =>
  props.question.options?.length ? props.question.options : [{ choice: '', label: 'Answer' }],
)
const cards = computed(() => options.value.filter((o) => o.choice !== 'back'))
const back = computed(() => options.value.find((o) => o.choice === 'back'))
const follows = (choice: string) => brief.value?.answers?.find((a) => a.word === choice)?.says ?? []
const silence = computed(() => brief.value?.answers?.find((a) => a.word === 'nobody'))
const needsApprover = (o: Schemas['Option']) =>
  Boolean(o.approves) || (o.choice === 'again' && Boolean(props.question.attempt))
const labels = computed(() => Object.fromEntries(options.value.map((o) => [o.choice, words[o.choice] ?? o.label])))
const approving = computed(() => options.value.find((o) => o.approves))
/** What each answer leads to, with the words of its author first. */
const chosen = computed(() =>
  (brief.value?.answers ?? [])
    .filter((a) => a.word !== 'nobody')
    .map((a) => {
      const says = options.value.find((o) => o.choice === a.word)?.says
      return { ...a, says: says ? [says, ...a.says] : a.says }
    }),
)
const mayTake = (o: Schemas['Option']) => may('responder') && (!needsApprover(o) || may('approver'))

const say = (choice: string) =>
  attempt(
    () => answer.mutateAsync({ id: props.question.id, choice, comment: comment.value.trim(), fields: fields.value }),
    () => emit('said'),
  )
</script>

<template>
  <WaitingPanel wanted="Answer needed" :from="`from ${question.ask}`" :until="question.until">
    <WayTrail v-if="way.length > 1" :way="way" />
    <h2 class="what">{{ question.attempt ? 'What became of it?' : question.title }}</h2>
    <p v-if="question.text" class="how">{{ question.text }}</p>
    <div class="around">
      <p v-if="silence?.says.length" class="silence">
        If nobody answers<template v-if="silence.at">
          by <span class="num" :title="exact(silence.at)">{{ clockTime(silence.at).slice(0, 5) }}</span></template
        >: {{ silence.says.join(' ') }}
      </p>
      <BriefSide v-if="brief" :brief="brief" :undrawn="small || banded" :banded="banded" />
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
    <template v-if="small">
      <p v-if="brief?.parts.length" class="approves">
        “{{ labels[approving?.choice ?? ''] }}” approves: <strong>{{ brief.headline.what }}</strong>;
        <template v-if="brief.headline.back"><StateShape name="undo" /> {{ brief.headline.back }}</template
        ><strong v-if="brief.headline.cannot"
          ><template v-if="brief.headline.back">; </template><StateShape name="no-undo" />
          {{ brief.headline.cannot }}</strong
        >
      </p>
      <CommandList v-if="brief?.parts.length" :parts="brief.parts" folded bare />
      <AnswersTable class="options" :answers="chosen" :labels="labels" />
    </template>
    <ul v-else class="cards" aria-label="Answers">
      <ChoiceCard
        v-for="o in cards"
        :key="o.choice"
        :option="o"
        :label="labels[o.choice] ?? o.label"
        :follows="follows(o.choice)"
        :brief="o.approves && brief?.parts.length ? brief : undefined"
        :may="mayTake(o)"
        :busy="busy"
        @take="say(o.choice)"
      />
    </ul>
    <p v-if="!may('responder')" class="faint">
      You may look at this question; whoever answers it needs the role responder.
    </p>
    <component :is="small ? DecisionBar : 'div'" v-if="may('responder')" class="foot" v-bind="small ? { wrong } : {}">
      <p v-if="question.brief?.missing?.length" class="faint">{{ question.brief.missing.join('; ') }}</p>
      <p v-if="wrong && !small" role="alert" class="wrong">{{ wrong }}</p>
      <template v-if="small">
        <v-btn
          v-for="o in cards"
          :key="o.choice"
          class="choice"
          :disabled="busy || Boolean(o.barred) || !mayTake(o)"
          @click="say(o.choice)"
          >{{ labels[o.choice] }}</v-btn
        >
      </template>
      <v-btn v-if="back" :size="small ? undefined : 'small'" :disabled="busy" @click="say(back.choice)"
        >Back{{ before ? ` to “${before.title}”` : '' }}</v-btn
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
    </component>
    <QuestionHelp :question="question" />
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
.cards {
  list-style: none;
  padding: 0;
  margin: 0;
}
.comment {
  flex: 1;
  min-width: 160px;
}
.around {
  display: flex;
  flex-wrap: wrap;
  gap: 0 24px;
  font-size: 13px;
  line-height: 18px;
}
.silence {
  margin: 4px 0 6px;
}
div.foot {
  display: flex;
  flex-wrap: wrap;
  gap: 8px 16px;
  align-items: center;
  margin-top: 8px;
}
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(220px, 1fr));
  gap: 12px;
  margin: 10px 0;
}
@media (max-width: 700px) {
  .comment {
    flex-basis: 100%;
  }
  .silence {
    margin: 2px 0;
  }
  .choice {
    height: auto;
    min-height: 34px;
    padding: 4px 10px;
    white-space: normal;
  }
}
</style>
