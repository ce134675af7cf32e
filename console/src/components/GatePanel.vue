<script setup lang="ts">
import { computed, ref } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { relative, useClock } from '../composables/clock'
import { useDecide } from '../composables/data'
import WaitingPanel from './WaitingPanel.vue'

const props = defineProps<{ gate: Schemas['Gate'] }>()
const now = useClock()
const decide = useDecide()
const comment = ref('')
const { wrong, attempt } = useAttempt()
const readings = computed(() => {
  const by = new Map<string, { target: string; value: string; unit: string; at: string }[]>()
  for (const e of props.gate.evidence ?? [])
    by.set(e.reading, [
      ...(by.get(e.reading) ?? []),
      { target: e.target || 'this host', value: e.value === '' ? '(empty)' : e.value, unit: e.unit ?? '', at: e.at },
    ])
  return [...by]
})

function say(approve: boolean) {
  if (props.gate.comment_wanted && !comment.value.trim()) {
    wrong.value = 'This gate wants a comment.'
    return
  }
  const { id, digest } = props.gate
  void attempt(() => decide.mutateAsync({ id, approve, digest, comment: comment.value.trim() }))
}
</script>

<template>
  <WaitingPanel
    wanted="Approval wanted"
    :title="gate.title"
    :from="`from ${gate.ask} · asked by ${gate.requester}`"
    :until="gate.until"
  >
    <div v-for="r in gate.requests" :key="r.target" class="request">
      <pre class="mono" tabindex="0" :aria-label="`What would run on ${r.target}`">{{ r.shown }}</pre>
      <p class="faint">
        on <strong>{{ r.target || 'this host' }}</strong><template v-if="r.address">
          ({{ r.address }}, account {{ r.account }})</template
        >, at most {{ r.timeout_seconds }} s
      </p>
      <p v-if="r.undo" class="faint">
        Undo: <code class="mono">{{ r.undo }}</code>
      </p>
    </div>
    <div class="why">
      <div>
        <h4>The evidence</h4>
        <table>
          <tbody>
            <template v-for="[name, list] in readings" :key="name">
              <tr v-for="(e, i) in list" :key="e.target">
                <th scope="row">{{ i === 0 ? name : '' }}</th>
                <td>{{ e.target }}</td>
                <td class="mono">{{ e.value }} {{ e.unit }}</td>
                <td class="faint num">{{ relative(e.at, now) }}</td>
              </tr>
            </template>
          </tbody>
        </table>
      </div>
      <div>
        <h4>Why it is asked</h4>
        <ul>
          <li v-for="r in gate.reasons" :key="r">{{ r }}</li>
        </ul>
      </div>
    </div>
    <template v-if="gate.may_decide">
      <v-textarea
        v-model="comment"
        :label="gate.comment_wanted ? 'Comment (wanted)' : 'Comment for the record'"
        rows="1"
        auto-grow
        hide-details
        maxlength="5000"
      />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <div class="actions">
        <v-btn id="approve" color="primary" variant="flat" :loading="decide.isPending.value" @click="say(true)"
          >Approve this change</v-btn
        >
        <v-btn id="refuse" :disabled="decide.isPending.value" @click="say(false)">Refuse</v-btn>
      </div>
    </template>
    <p v-else class="faint">
      You may look at this gate; whoever decides it needs the role approver and must not be the one who asked.
    </p>
  </WaitingPanel>
</template>

<style scoped>
h4 {
  font-size: 12px;
  font-weight: 650;
  margin-bottom: 2px;
}
.request pre {
  background: rgba(var(--v-theme-on-surface), 0.06);
  padding: 9px 12px;
  border-radius: 3px;
  overflow-x: auto;
  font-size: 13.5px;
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
.request p {
  margin: 4px 0;
}
.why {
  display: grid;
  grid-template-columns: 3fr 2fr;
  gap: 24px;
  margin: 8px 0 12px;
}
.why table {
  border-collapse: collapse;
  line-height: 1.4;
}
.why ul {
  padding-left: 18px;
}
th {
  text-align: left;
  font-weight: 550;
  padding-right: 14px;
}
td {
  padding-right: 14px;
}
.actions {
  display: flex;
  justify-content: space-between;
  margin-top: 12px;
  gap: 40px;
}
@media (max-width: 700px) {
  .why {
    grid-template-columns: 1fr;
    gap: 10px;
  }
}
</style>
