<script setup lang="ts">
import ActButton from './ActButton.vue'
import { useQuery } from '@tanstack/vue-query'
import { computed, ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { useOnCall } from '../composables/data'
import { useSession } from '../composables/session'
import StoryText from './StoryText.vue'

/** What is left to do after an incident: written down with an owner and a day, done or dropped with a word. */
const props = defineProps<{ number: number; left: Schemas['Text'][] }>()
const emit = defineEmits<{ changed: [] }>()
const session = useSession()
const may = computed(() => session.may('responder'))
const teams = useOnCall()
const q = useQuery({
  queryKey: computed(() => ['incident', String(props.number), 'follow-ups']),
  queryFn: () => got(api.GET('/api/v1/follow-ups', { params: { query: { incident: props.number } } })),
})
const open = computed(() => (q.data.value ?? []).filter((f) => f.state === 'open'))
const over = computed(() => (q.data.value ?? []).filter((f) => f.state !== 'open'))
/** What is left over besides: the follow-ups come first among it. */
const others = computed(() => props.left.slice(open.value.length))
const people = computed(() => [...new Set((teams.data.value ?? []).flatMap((t) => [...t.members, `team/${t.team}`]))])

const adding = ref(false)
const text = ref('')
const owner = ref<string | null>(null)
const due = ref('')
const { wrong, busy, attempt } = useAttempt()
function begin(t?: Schemas['Text']) {
  text.value = t ? t.map((s) => s.text).join('') : ''
  owner.value = session.me?.name ?? null
  due.value = ''
  adding.value = true
}
const changed = () => {
  void q.refetch()
  emit('changed')
}
const add = () =>
  attempt(
    () =>
      got(
        api.POST('/api/v1/incidents/{number}/follow-ups', {
          params: { path: { number: props.number } },
          body: {
            text: text.value.trim(),
            owner: owner.value?.trim() || undefined,
            due: due.value ? new Date(`${due.value}T12:00:00`).toISOString() : undefined,
          },
        }),
      ),
    () => {
      adding.value = false
      changed()
    },
  )
const settle = (id: string, state: 'done' | 'dropped' | 'open') =>
  attempt(
    () =>
      got(
        api.PUT('/api/v1/incidents/{number}/follow-ups/{id}', {
          params: { path: { number: props.number, id } },
          body: { state },
        }),
      ),
    changed,
  )
const day = (at?: string) =>
  at ? new Date(at).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', year: 'numeric' }) : ''
</script>

<template>
  <section aria-label="Left over" class="left">
    <header>
      <h2>Left over</h2>
      <v-btn v-if="may && !adding" id="follow-up" size="small" variant="text" color="primary" @click="begin()"
        >Add a follow-up</v-btn
      >
    </header>
    <ul>
      <li v-for="f in open" :key="f.id">
        <span>{{ f.text }}</span>
        <span class="faint">{{ f.owner === session.me?.name ? 'you' : f.owner || 'no owner' }}</span>
        <span class="faint num">{{ f.due ? `due ${day(f.due)}` : 'no day' }}</span>
        <span v-if="may" class="acts">
          <v-btn size="small" variant="text" :disabled="busy" @click="settle(f.id, 'done')">Done</v-btn>
          <v-btn size="small" variant="text" :disabled="busy" @click="settle(f.id, 'dropped')">Drop</v-btn>
        </span>
      </li>
      <li v-for="(t, n) in others" :key="n">
        <span><StoryText :text="t" /></span>
        <span v-if="may && open.length + others.length > 0 && t[0]?.text !== 'nothing known'" class="acts">
          <v-btn size="small" variant="text" @click="begin(t)">Follow up</v-btn>
        </span>
      </li>
      <li v-for="f in over" :key="f.id" class="over">
        <s>{{ f.text }}</s>
        <span class="faint">{{ f.state }} by {{ f.settled_by }} {{ day(f.settled_at) }}</span>
        <span v-if="may" class="acts">
          <v-btn size="small" variant="text" :disabled="busy" @click="settle(f.id, 'open')">Open again</v-btn>
        </span>
      </li>
    </ul>
    <form v-if="adding" class="add" @submit.prevent="add">
      <v-text-field v-model="text" label="What is left to do" hide-details autofocus maxlength="500" />
      <v-combobox v-model="owner" :items="people" label="Whose" hide-details clearable />
      <v-text-field v-model="due" label="Due" type="date" hide-details />
      <ActButton type="submit" :disabled="!text.trim()" :loading="busy">Add</ActButton>
      <v-btn variant="text" @click="adding = false">Back</v-btn>
    </form>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
  </section>
</template>

<style scoped>
.left {
  margin: 0 0 20px;
}
header {
  display: flex;
  justify-content: space-between;
  align-items: center;
}
h2 {
  margin: 0 0 4px;
}
ul {
  list-style: none;
  padding: 0;
}
li {
  display: flex;
  flex-wrap: wrap;
  gap: 4px 20px;
  align-items: center;
  min-height: 36px;
  border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
li > :first-child {
  flex: 1 1 280px;
  overflow-wrap: anywhere;
}
.acts {
  display: inline-flex;
  gap: 4px;
}
.add {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(0, 2fr) 170px auto auto;
  gap: 8px;
  align-items: center;
  margin-top: 8px;
}
@media (max-width: 900px) {
  .add {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
