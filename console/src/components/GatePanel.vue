<script setup lang="ts">
import ActButton from './ActButton.vue'
import { mdiCommentTextOutline } from '@mdi/js'
import { useIntersectionObserver, useMediaQuery } from '@vueuse/core'
import { computed, ref, useTemplateRef } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { useDecide, useGate, useOnCall } from '../composables/data'
import { useSession } from '../composables/session'
import { asWho } from '../composables/you'
import AnswersTable from './AnswersTable.vue'
import BoundList from './BoundList.vue'
import BriefSide from './BriefSide.vue'
import CommandList from './CommandList.vue'
import DecisionBar from './DecisionBar.vue'
import FactsTable from './FactsTable.vue'
import RiskBox from './RiskBox.vue'
import StateShape from './StateShape.vue'
import WaitingPanel from './WaitingPanel.vue'

/** A change that waits for a decision, with all that is needed to decide it. Of several on a page the first has keys. */
const props = defineProps<{ gate: Schemas['Gate']; first?: boolean; banded?: boolean }>()
const emit = defineEmits<{ said: [] }>()
const decide = useDecide()
const small = useMediaQuery('(max-width: 700px)')
const session = useSession()
const comment = ref('')
const { wrong, attempt } = useAttempt()
const whole = useGate(() => props.gate.id)
const onCall = useOnCall(() => Boolean(session.me))
const brief = computed(() => whole.data.value?.brief)
const asked = ref(false)
const commenting = computed(() => asked.value || Boolean(props.gate.comment_needed) || comment.value !== '')
const gone = computed(() => (brief.value?.trends ?? []).flatMap((t) => t.gone || []))

const targets = computed(() => new Set((brief.value?.parts ?? []).flatMap((p) => p.targets)).size)
const noUndo = computed(() => (brief.value?.parts ?? []).some((p) => p.no_undo))
const what = computed(() => {
  const n = targets.value
  return small.value ? `Approve on ${n}` : `Approve on ${n === 1 ? '1 target' : `${n} targets`}`
})
const from = computed(() => {
  const why = props.gate.may_decide ? asWho(props.gate.ask, onCall.data.value ?? [], session.me?.name ?? '') : ''
  const started = props.gate.requester.startsWith('trigger:') ? '' : `, started by ${props.gate.requester}`
  return `${why || `from ${props.gate.ask}`}${started}. Asked by `
})

/** What would run, and what is lost by it, must have been on the screen before it can be approved. */
const parts = useTemplateRef<HTMLElement>('parts')
const risk = useTemplateRef<HTMLElement>('risk')
const read = ref({ parts: false, risk: false })
const seen = (name: 'parts' | 'risk') => (list: { isIntersecting: boolean }[]) => {
  if (list.some((e) => e.isIntersecting)) read.value[name] = true
}
useIntersectionObserver(parts, seen('parts'))
useIntersectionObserver(risk, seen('risk'))
const unread = computed(() => !read.value.parts || !read.value.risk)

/** The second look: what cannot be undone is read once more, and shown with the values that will be sent. */
const sure = ref(false)
const looking = ref(false)
async function lookTwice() {
  if (props.gate.comment_needed && !comment.value.trim()) return say(true)
  sure.value = looking.value = true
  await whole.refetch()
  looking.value = false
}
const changed = computed(() => whole.data.value !== undefined && whole.data.value.digest !== props.gate.digest)

function say(approve: boolean) {
  sure.value = false
  if (props.gate.comment_needed && !comment.value.trim()) {
    wrong.value = 'This gate wants a comment.'
    return
  }
  const { id, digest } = props.gate
  void attempt(
    () => decide.mutateAsync({ id, approve, digest, comment: comment.value.trim() }),
    () => emit('said'),
  )
}
</script>

<template>
  <WaitingPanel
    :wanted="gate.may_decide ? 'Approval needed from you' : 'Approval needed'"
    :from="from"
    :until="gate.until"
  >
    <template #from
      ><router-link :to="`/runbooks/${gate.runbook}`">{{ gate.runbook }}</router-link></template
    >
    <template v-if="brief">
      <div class="sides">
        <div class="left">
          <h2 class="what">{{ brief.headline.what }}</h2>
          <p class="how">
            {{ brief.headline.how
            }}<template v-if="!small"
              ><template v-if="brief.headline.stops">; {{ brief.headline.stops }}</template
              ><template v-if="brief.headline.back"
                >; <StateShape name="undo" /> {{ brief.headline.back }}</template
              ></template
            >
          </p>
          <ul v-if="gone.length" class="gone">
            <li v-for="g in gone" :key="g"><StateShape name="unsure" /> {{ g }}</li>
          </ul>
          <h3 class="exactly">Exactly this would run</h3>
          <div ref="parts">
            <CommandList :parts="brief.parts" :folded="small" />
          </div>
          <BoundList v-if="!small" :parts="brief.parts" />
        </div>
        <div class="right">
          <BriefSide :brief="brief" :banded="banded" />
          <AnswersTable :answers="brief.answers ?? []" />
          <div ref="risk" class="risk-at"><RiskBox :parts="brief.parts" /></div>
        </div>
      </div>
      <DecisionBar :missing="brief.missing" :wrong="wrong">
        <template v-if="gate.may_decide">
          <ActButton
            v-if="noUndo"
            :id="first ? 'approve' : undefined"
            class="approves"
            color="error"
            :disabled="unread"
            :loading="decide.isPending.value || looking"
            @click="lookTwice"
            ><StateShape name="no-undo" />&nbsp;{{ unread ? 'Read what would run' : `${what}, no undo` }}</ActButton
          >
          <ActButton
            v-else
            :id="first ? 'approve' : undefined"
            class="approves"
            color="primary"
            variant="flat"
            :disabled="unread"
            :loading="decide.isPending.value"
            @click="say(true)"
            >{{ unread ? 'Read what would run' : what }}</ActButton
          >
          <v-btn v-if="!commenting" class="comment-first" aria-label="Comment" @click="asked = true"
            ><svg viewBox="0 0 24 24" width="16" height="16" aria-hidden="true">
              <path :d="mdiCommentTextOutline" fill="currentColor" /></svg
            ><span class="word">&nbsp;Comment</span></v-btn
          >
          <v-textarea
            v-else
            v-model="comment"
            class="comment"
            :label="gate.comment_needed ? 'Comment (required)' : 'Comment for the record'"
            rows="1"
            density="compact"
            auto-grow
            hide-details
            :autofocus="asked"
            maxlength="5000"
          />
          <span v-if="noUndo && !commenting" class="faint small once"
            >Asks once more with the values that will be sent.</span
          >
          <v-btn
            :id="first ? 'refuse' : undefined"
            class="refuses"
            :disabled="decide.isPending.value"
            @click="say(false)"
            >Refuse</v-btn
          >
        </template>
        <p v-else class="faint">
          You may look at this gate; whoever decides it needs the role approver and must not be the one who asked.
        </p>
      </DecisionBar>
      <details class="more" open>
        <summary>What it rests on</summary>
        <BoundList v-if="small" :parts="brief.parts" />
        <div class="two">
          <div>
            <h3>Evidence</h3>
            <FactsTable :facts="brief.facts" />
          </div>
          <div>
            <h3>Why it is asked</h3>
            <ul>
              <li v-for="r in gate.reasons" :key="r">{{ r }}</li>
            </ul>
          </div>
        </div>
      </details>
    </template>
    <v-dialog v-model="sure" persistent max-width="760" aria-label="Second look">
      <div v-if="brief" class="second">
        <h2 class="what">{{ brief.headline.what }}</h2>
        <RiskBox :parts="brief.parts" />
        <p v-if="changed" role="alert" class="wrong">
          What would run has changed since this page showed it. Close this, and look again.
        </p>
        <template v-else>
          <p class="faint">Exactly this will be sent:</p>
          <CommandList :parts="brief.parts" :folded="small" />
        </template>
        <div class="acts">
          <v-btn id="approve-sure" color="error" :disabled="changed || looking" @click="say(true)"
            ><StateShape name="no-undo" />&nbsp;{{ what }}, no undo</v-btn
          >
          <v-btn @click="sure = false">Back</v-btn>
        </div>
      </div>
    </v-dialog>
    <p v-if="!brief && whole.error.value" role="alert">{{ gate.title }}: {{ whole.error.value.message }}</p>
    <h2 v-else-if="!brief" class="what">{{ gate.title }}</h2>
  </WaitingPanel>
</template>

<style scoped>
.gone {
  list-style: none;
  padding: 4px 8px;
  border-left: 3px solid rgb(var(--v-theme-warning));
  margin-bottom: 6px;
}
.second {
  background: rgb(var(--v-theme-surface));
  border-radius: 6px;
  padding: 20px 24px;
  overflow-y: auto;
}
.second .what {
  font-size: 18px;
  margin: 0 0 10px;
}
.acts {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  margin-top: 16px;
}
.approves {
  font-weight: 650;
}
.comment {
  flex: 1;
}
.small {
  font-size: 12px;
  line-height: 16px;
}
.refuses {
  margin-left: auto;
}
.more {
  margin-top: 22px;
}
.more summary {
  font-size: 12px;
  font-weight: 650;
}
.two {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: 24px;
}
.more ul {
  padding-left: 18px;
}
/* What cannot be undone stands first. */
.right {
  display: flex;
  flex-direction: column;
}
.risk-at {
  order: -1;
  min-height: 1px;
}
@media (max-width: 700px) {
  .two {
    grid-template-columns: 1fr;
  }
  .comment {
    order: 3;
    flex-basis: 100%;
  }
  .exactly,
  .once,
  .comment-first .word {
    display: none;
  }
  .comment-first {
    min-width: 44px;
    padding: 0;
  }
}
</style>
