<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { useQueryClient } from '@tanstack/vue-query'
import { refDebounced } from '@vueuse/core'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, Refusal, type Schemas } from '../api/client'
import AuthorFlow from '../components/AuthorFlow.vue'
import AuthorRehearsal from '../components/AuthorRehearsal.vue'
import DocumentText from '../components/DocumentText.vue'
import MergePanel from '../components/MergePanel.vue'
import TimeAgo from '../components/TimeAgo.vue'
import { useAttempt } from '../composables/attempt'
import { useDocument, useLibraryRunbook, usePush, useRevisions, useSeen } from '../composables/data'
import { useDraft } from '../composables/draft'
import { chosen, isConflict, merge, type Piece } from '../composables/merge'
import { useSession } from '../composables/session'
import { useSketch } from '../composables/sketch'
import { authored, skeletons } from '../composables/skeletons'

const route = useRoute()
const router = useRouter()
const session = useSession()
const queries = useQueryClient()
const kind = computed(() => route.params.kind as Schemas['DocumentKind'])
const name = computed(() => String(route.params.name ?? ''))
const mayWrite = computed(() => session.may(authored.includes(kind.value) ? 'author' : 'admin'))
const q = useDocument(kind, name)
const revisions = useRevisions(kind, name)
const seen = useSeen()
const push = usePush()
const { wrong, attempt } = useAttempt()

/** The runbook of the library that a new binding is for. */
const shelf = useLibraryRunbook(computed(() => (name.value ? '' : String(route.query.library ?? ''))))

/** What is in use; of a new document what it begins with. */
const before = computed(() =>
  name.value ? (q.data.value?.text ?? '') : (shelf.data.value?.binding ?? skeletons[kind.value] ?? ''),
)
const text = ref('')
/** The text on which `text` was written, and what is to be asked where somebody pushed another one meanwhile. */
let base = ''
const pieces = ref<Piece[]>()
const merged = ref(false)
const restored = ref(false)
const draft = useDraft(() => `${kind.value}/${name.value}`)
watch(
  before,
  (now, was) => {
    if (was === undefined || !text.value || text.value === base) {
      const kept = now ? draft.read() : undefined
      text.value = base = now
      if (kept && kept.text !== now) {
        restored.value = true
        base = kept.base
        text.value = kept.text
        if (kept.base !== now) join(now)
      }
      return
    }
    if (now !== base) join(now)
  },
  { immediate: true },
)
/** Puts together what was written here and what somebody pushed meanwhile. */
function join(theirs: string) {
  const list = merge(base, text.value, theirs)
  base = theirs
  if (list.some(isConflict)) pieces.value = list
  else {
    text.value = chosen(list, [])
    merged.value = true
  }
}
function decided(t: string) {
  text.value = t
  pieces.value = undefined
  merged.value = true
}
watch(text, (t) => mayWrite.value && draft.keep(base, t))
function discard() {
  text.value = base = before.value
  restored.value = merged.value = false
  pieces.value = undefined
}
const altered = computed(() => text.value.trimEnd() !== before.value.trimEnd())
const message = ref('')

// What it would change is asked for as it is written, and nothing else than what is shown is carried out.
const asked = refDebounced(text, 350)
const plan = ref<Schemas['Push']>()
/** The text that the plan was made of. */
const planned = ref('')
const refused = ref('')
const errors = ref<Schemas['Finding'][]>([])
const pushing = (t: string, check: boolean) => ({
  files: [{ name: `${kind.value}.yaml`, text: t }],
  check,
  prune: false,
})
watch(
  asked,
  async (t) => {
    if (!t.trim() || !mayWrite.value) return
    try {
      const p = await got(api.POST('/api/v1/push', { body: pushing(t, true) }))
      if (t === asked.value) told(t, p)
    } catch (e) {
      const found = e instanceof Refusal ? e.findings : []
      if (t === asked.value) told(t, undefined, found.length ? '' : e instanceof Error ? e.message : String(e), found)
    }
  },
  { immediate: true },
)
function told(of: string, p?: Schemas['Push'], why = '', found: Schemas['Finding'][] = []) {
  planned.value = of
  plan.value = p
  refused.value = why
  errors.value = found
}
const findings = computed(() => plan.value?.findings ?? errors.value)
const changes = computed(() => (plan.value?.steps ?? []).filter((s) => s.what !== 'same'))
const current = computed(() => planned.value === text.value && changes.value.length > 0)

const keep = () =>
  attempt(async () => {
    const body = { ...pushing(text.value, false), expect: plan.value?.plan, message: message.value || undefined }
    const done = await push.mutateAsync(body)
    message.value = ''
    for (const k of ['document', 'documents', 'triggers', 'trigger', 'sources', 'runbooks', 'runbook', 'library'])
      void queries.invalidateQueries({ queryKey: [k] })
    const it = done.steps.find((s) => s.kind === kind.value)
    draft.forget()
    base = text.value
    restored.value = merged.value = false
    if (it && it.name !== name.value) await router.replace(`/documents/${it.kind}/${it.name}`)
    else await q.refetch()
  })

/** A runbook is drawn and played as it is written. */
const drawn = computed(() => kind.value === 'runbook' && mayWrite.value)
const drawing = useSketch(text, () => drawn.value)
const tab = ref('flow')
const line = ref(1)
const pickedLine = ref(0)

const bring = (number: number) =>
  attempt(async () => {
    const path = { kind: kind.value, name: name.value }
    const d = await got(api.GET('/api/v1/documents/{kind}/{name}', { params: { path, query: { number } } }))
    text.value = d.text ?? ''
  })
</script>

<template>
  <div class="page">
    <p v-if="q.error.value" role="alert" class="empty">{{ q.error.value.message }}</p>
    <template v-else>
      <p class="faint"><router-link to="/documents">Documents</router-link> · {{ kind }}</p>
      <h1>{{ name || `A new ${kind}` }}</h1>
      <p v-if="q.data.value" class="faint">
        revision {{ q.data.value.number }} <span class="mono">{{ q.data.value.digest.slice(0, 12) }}</span> · pushed
        <TimeAgo :at="q.data.value.pushed_at" /> by {{ q.data.value.pushed_by }}
      </p>
      <p v-if="q.data.value?.origin && mayWrite" class="note">
        Its text is kept at <span class="mono">{{ q.data.value.origin }}</span>: the next push from there restores what
        stands there.
      </p>
      <p v-if="restored" role="status" class="note">
        What you wrote here before and did not push is back.
        <v-btn size="small" variant="text" @click="discard">Discard it</v-btn>
      </p>
      <p v-if="merged" role="status" class="note">
        {{ q.data.value?.pushed_by || 'Somebody' }} pushed revision {{ q.data.value?.number }} while you wrote; it is
        merged into your text, which is not pushed yet.
      </p>
      <MergePanel v-if="pieces" :pieces="pieces" :by="q.data.value?.pushed_by || 'Somebody'" @done="decided" />
      <div class="two" :class="{ drawn }">
        <div>
          <DocumentText
            v-model:text="text"
            :findings="findings"
            :label="`Text of the ${kind}`"
            :editable="mayWrite"
            :seen="seen.data.value"
            :line="pickedLine"
            @line="(n) => (line = n)"
          />
          <div aria-live="polite">
            <template v-if="mayWrite">
              <h2>What it changes</h2>
              <p v-if="refused" role="alert" class="wrong">{{ refused }}</p>
              <ul v-if="findings.length" class="found" aria-label="Findings">
                <li v-for="(f, i) in findings" :key="i" :class="{ wrong: !f.warning }">
                  line {{ f.line }}: {{ f.message }}<template v-if="f.meant">; did you mean {{ f.meant }}?</template>
                </li>
              </ul>
              <ul v-if="changes.length" aria-label="Changes">
                <li v-for="s in changes" :key="`${s.kind}/${s.name}`">
                  {{ s.kind }} <strong>{{ s.name }}</strong> is {{ s.what }}
                  <ul v-if="s.fields.length" class="mono fields">
                    <li v-for="f in s.fields" :key="f">{{ f }}</li>
                  </ul>
                  <span v-if="s.kept_at" class="faint"> and taken from {{ s.kept_at }}</span>
                </li>
              </ul>
              <p v-else-if="plan" class="empty">Nothing: this is what is in use.</p>
              <form class="push" @submit.prevent="keep">
                <v-text-field v-model="message" label="Why" hide-details maxlength="1000" />
                <ActButton
                  type="submit"
                  color="primary"
                  size="small"
                  :disabled="!current || Boolean(pieces)"
                  :loading="push.isPending.value"
                >
                  Push
                </ActButton>
                <v-btn v-if="altered" size="small" variant="text" @click="discard">Undo all</v-btn>
              </form>
              <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
              <p class="faint hint">
                After <code class="mono">alert.</code> and <code class="mono">== "</code> what alerts said so far is
                offered; Ctrl-Space asks for it.
              </p>
            </template>
          </div>
        </div>
        <div>
          <v-tabs v-if="drawn" v-model="tab" density="compact" color="primary" aria-label="Beside the text">
            <v-tab value="flow">Flow</v-tab>
            <v-tab value="rehearse">Rehearse</v-tab>
            <v-tab v-if="revisions.data.value?.length" value="revisions">Revisions</v-tab>
          </v-tabs>
          <AuthorFlow
            v-if="drawn"
            v-show="tab === 'flow'"
            class="pane"
            :sketch="drawing.sketch.value"
            :graph="drawing.graph.value"
            :current="drawing.current.value"
            :line="line"
            :edit="drawing.edit"
            @pick="(n) => (pickedLine = n)"
          />
          <AuthorRehearsal
            v-if="drawn"
            v-show="tab === 'rehearse'"
            class="pane"
            :text="text"
            :inputs="drawing.sketch.value?.inputs ?? []"
            :sound="drawing.current.value"
          />
          <div v-show="!drawn || tab === 'revisions'">
            <template v-if="revisions.data.value?.length">
              <h2>Revisions</h2>
              <table class="plain" aria-label="Revisions">
                <tbody>
                  <tr v-for="r in revisions.data.value" :key="r.number">
                    <td class="num">{{ r.number }}</td>
                    <td>
                      <TimeAgo :at="r.pushed_at" /> <span class="faint">by {{ r.pushed_by }}</span>
                      <div v-if="r.message">{{ r.message }}</div>
                    </td>
                    <td class="acts">
                      <v-btn v-if="r.number !== q.data.value?.number" size="x-small" @click="bring(r.number)">
                        {{ mayWrite ? 'Take its text' : 'Show' }}
                      </v-btn>
                      <span v-else class="faint">in use</span>
                    </td>
                  </tr>
                </tbody>
              </table>
            </template>
          </div>
        </div>
      </div>
    </template>
  </div>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.2fr) minmax(0, 1fr);
  gap: 28px;
  margin-top: 12px;
}
.two :deep(.source) {
  height: 62vh;
}
.two.drawn :deep(.source) {
  height: 56vh;
}
.two h2 {
  margin-top: 12px;
}
.found {
  padding-left: 0;
  list-style: none;
}
.fields {
  font-size: 12.5px;
  padding-left: 18px;
}
.push {
  display: flex;
  gap: 10px;
  align-items: center;
  margin: 14px 0 6px;
}
.pane {
  margin-top: 12px;
}
.hint {
  font-size: 13px;
}
.acts {
  text-align: right;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: 1fr;
  }
}
</style>
