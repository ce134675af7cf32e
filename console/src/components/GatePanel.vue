<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { exact, relative, useClock } from '../composables/clock'
import { useDecide, useGate } from '../composables/data'
import BriefSide from './BriefSide.vue'
import ChangeTable from './ChangeTable.vue'
import DecisionBar from './DecisionBar.vue'
import FactsTable from './FactsTable.vue'
import RiskBox from './RiskBox.vue'
import WaitingPanel from './WaitingPanel.vue'

const props = defineProps<{ gate: Schemas['Gate'] }>()
const emit = defineEmits<{ said: [] }>()
const now = useClock()
const decide = useDecide()
const comment = ref('')
const { wrong, attempt } = useAttempt()
const whole = useGate(() => props.gate.id)
const brief = computed(() => whole.data.value?.brief)
// On a phone the comment is folded away until it is wanted.
const asked = ref(false)
const commenting = computed(() => asked.value || Boolean(props.gate.comment_needed) || comment.value !== '')
const gone = computed(() => (brief.value?.trends ?? []).flatMap((t) => t.gone || []))

const targets = computed(() => new Set((brief.value?.parts ?? []).flatMap((p) => p.targets)).size)
const noUndo = computed(() => (brief.value?.parts ?? []).some((p) => p.no_undo))
const what = computed(() => `Approve on ${targets.value === 1 ? '1 target' : `${targets.value} targets`}`)

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
  <WaitingPanel wanted="Approval needed" :from="`from ${gate.ask} · asked by ${gate.requester}`" :until="gate.until">
    <template v-if="brief">
      <h3 class="what">{{ brief.headline.what }}</h3>
      <p class="how">
        <template v-if="brief.headline.how">{{ brief.headline.how }}</template><template v-if="brief.headline.stops"
          >; {{ brief.headline.stops }}</template
        ><template v-if="brief.headline.back">; <span aria-hidden="true">↶</span> {{ brief.headline.back }}</template>
        <template v-if="brief.headline.cannot"
          ><template v-if="brief.headline.how || brief.headline.back">; </template
          ><strong><span aria-hidden="true">⊘</span> {{ brief.headline.cannot }}</strong></template
        >
      </p>
      <div class="sides">
        <div class="left">
          <ul v-if="gone.length" class="gone">
            <li v-for="g in gone" :key="g"><span aria-hidden="true">◇</span> {{ g }}</li>
          </ul>
          <h4>Exactly this would run</h4>
          <ChangeTable v-for="(p, i) in brief.parts" :key="i" :part="p" :several="brief.parts.length > 1" />
        </div>
        <div class="right">
          <RiskBox :parts="brief.parts" />
          <BriefSide :brief="brief">
            <dt>After yes</dt>
            <dd class="yes">
              <span v-for="line in brief.yes" :key="line" class="line">{{ line }}&#32;</span>
            </dd>
            <dt>After no</dt>
            <dd class="no">{{ brief.no }}</dd>
            <dt>
              If nobody answers
              <span class="num faint" :title="exact(gate.until)">{{ relative(gate.until, now) }}</span>
            </dt>
            <dd class="silence">{{ brief.silence }}</dd>
          </BriefSide>
        </div>
      </div>
      <DecisionBar :missing="brief.missing" :wrong="wrong">
        <template v-if="gate.may_decide">
          <v-btn
            v-if="noUndo"
            id="approve"
            color="error"
            :loading="decide.isPending.value || looking"
            @click="lookTwice"
            >{{ what }}, no undo</v-btn
          >
          <v-btn
            v-else
            id="approve"
            color="primary"
            variant="flat"
            :loading="decide.isPending.value"
            @click="say(true)"
            >{{ what }}</v-btn
          >
          <v-btn v-if="!commenting" class="comment-first" size="small" variant="text" @click="asked = true"
            >Comment</v-btn
          >
          <v-textarea
            v-model="comment"
            class="comment"
            :class="{ folded: !commenting }"
            :label="gate.comment_needed ? 'Comment (required)' : 'Comment for the record'"
            rows="1"
            density="compact"
            auto-grow
            hide-details
            maxlength="5000"
          />
          <v-btn id="refuse" :disabled="decide.isPending.value" @click="say(false)">Refuse</v-btn>
        </template>
        <p v-else class="faint">
          You may look at this gate; whoever decides it needs the role approver and must not be the one who asked.
        </p>
      </DecisionBar>
      <div class="more">
        <div>
          <h4>The evidence</h4>
          <FactsTable :facts="brief.facts" />
        </div>
        <div>
          <h4>Why it is asked</h4>
          <ul>
            <li v-for="r in gate.reasons" :key="r">{{ r }}</li>
          </ul>
        </div>
      </div>
    </template>
    <v-dialog v-model="sure" persistent max-width="760" aria-label="Second look">
      <div v-if="brief" class="second">
        <h3>{{ brief.headline.what }}</h3>
        <RiskBox :parts="brief.parts" />
        <p v-if="changed" role="alert" class="wrong">
          What would run has changed since this page showed it. Close this, and look again.
        </p>
        <template v-else>
          <p class="faint">Exactly this will be sent:</p>
          <ChangeTable v-for="(p, i) in brief.parts" :key="i" :part="p" :several="brief.parts.length > 1" />
        </template>
        <div class="acts">
          <v-btn id="approve-sure" color="error" :disabled="changed || looking" @click="say(true)"
            >{{ what }}, no undo</v-btn
          >
          <v-btn @click="sure = false">Back</v-btn>
        </div>
      </div>
    </v-dialog>
    <p v-if="!brief && whole.error.value" role="alert">{{ gate.title }}: {{ whole.error.value.message }}</p>
    <h3 v-else-if="!brief" class="what">{{ gate.title }}</h3>
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
}
.second h3 {
  margin-bottom: 10px;
}
.acts {
  display: flex;
  justify-content: space-between;
  gap: 12px;
  margin-top: 16px;
}
.comment {
  flex: 1;
}
.comment-first {
  display: none;
}
.line {
  display: block;
}
.more {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: 24px;
  margin-top: 26px;
}
.more ul {
  padding-left: 18px;
}
@media (max-width: 700px) {
  .more {
    grid-template-columns: 1fr;
  }
  .left {
    order: 2;
  }
  /* On a phone the risk stands in the line above already; what is lost comes after the answers. */
  .right {
    display: flex;
    flex-direction: column;
  }
  .right > :first-child:not(:only-child) {
    order: 2;
    margin: 6px 0 0;
  }
  .comment {
    order: 3;
    flex-basis: 100%;
  }
  .comment.folded {
    display: none;
  }
  .comment-first {
    display: inline-flex;
    min-width: 0;
    padding: 0 4px;
  }
  .line {
    display: inline;
    padding-right: 4px;
  }
}
</style>
