<script setup lang="ts">
import { ref } from 'vue'

import { Refusal, type Schemas } from '../api/client'
import { relative, useClock } from '../composables/clock'
import { useAnswer } from '../composables/data'
import { useSession } from '../composables/session'

const props = defineProps<{ question: Schemas['Question'] }>()
const session = useSession()
const now = useClock()
const answer = useAnswer()
const comment = ref('')
const wrong = ref('')
const words: Record<string, string> = { happened: 'It happened', 'did-not-happen': 'It did not happen', again: 'Do it again' }

async function say(choice: string) {
  wrong.value = ''
  try {
    await answer.mutateAsync({ id: props.question.id, choice, comment: comment.value.trim() })
  } catch (e) {
    wrong.value = e instanceof Refusal ? e.message : String(e)
  }
}
</script>

<template>
  <section class="question" aria-label="An answer is wanted">
    <header><strong><span aria-hidden="true">◐</span> Answer wanted</strong> <span class="faint">from {{ question.ask }} · ends {{ relative(question.until, now) }}</span></header>
    <p>{{ question.text }}</p>
    <template v-if="session.may('responder')">
      <v-textarea v-model="comment" label="Comment for the record" rows="1" auto-grow hide-details maxlength="5000" />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <div class="actions">
        <v-btn v-for="c in question.choices" :key="c" :disabled="answer.isPending.value || (c === 'again' && !session.may('approver'))" @click="say(c)">{{ words[c] ?? c }}</v-btn>
      </div>
    </template>
  </section>
</template>

<style scoped>
.question { border: 1px solid rgb(var(--v-theme-warning)); border-left-width: 4px; border-radius: 4px; padding: 12px 16px 16px; background: rgb(var(--v-theme-surface)); margin: 14px 0; }
header strong { color: rgb(var(--v-theme-warning)); }
p { margin: 8px 0; }
.actions { display: flex; gap: 12px; margin-top: 12px; flex-wrap: wrap; }
.wrong { color: rgb(var(--v-theme-error)); }
</style>
