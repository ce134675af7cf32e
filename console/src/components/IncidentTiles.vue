<script setup lang="ts">
import ActButton from './ActButton.vue'
import { computed, ref } from 'vue'

import { api, got, type Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { plainText } from '../composables/story'
import { look } from '../composables/words'
import StoryText from './StoryText.vue'
import StateShape from './StateShape.vue'

/** What is to be read of an incident that is over: the cause, what was done, who approved it, the effect, what is left. */
const props = defineProps<{
  sum: Schemas['StorySum']
  outcome: string
  because: string
  took: string
  harm?: string
  number: number
  /** Whether whoever looks may state the cause. */
  may: boolean
}>()
const emit = defineEmits<{ changed: [] }>()
const editing = ref(false)
const cause = ref('')
const { wrong, busy, attempt } = useAttempt()
function begin() {
  cause.value = props.sum.stated ? plainText(props.sum.cause) : ''
  editing.value = true
}
const state = () =>
  attempt(
    () =>
      got(
        api.PUT('/api/v1/incidents/{number}/statement', {
          params: { path: { number: props.number } },
          body: { field: 'cause', text: cause.value.trim() },
        }),
      ),
    () => {
      editing.value = false
      emit('changed')
    },
  )
const ended = computed(() => look(props.outcome))
const title = computed(() => ended.value.word.charAt(0).toUpperCase() + ended.value.word.slice(1))
</script>

<template>
  <section aria-label="What happened" class="sum" :style="{ borderLeftColor: ended.color }">
    <div class="ended">
      <p class="lead">
        <StateShape :name="ended.shape" class="big" :style="{ color: ended.color }" /> {{ title }} in {{ took }}
      </p>
      <p v-if="harm">{{ harm }}</p>
      <p class="faint">{{ because }}</p>
    </div>
    <div class="tiles">
      <div>
        <h2>Cause</h2>
        <p v-if="!editing" :class="{ main: sum.stated }"><StoryText :text="sum.cause" /></p>
        <form v-else class="state" @submit.prevent="state">
          <v-textarea
            v-model="cause"
            label="What caused it"
            rows="2"
            auto-grow
            density="compact"
            hide-details
            autofocus
            maxlength="2000"
          />
          <ActButton type="submit" size="small" :loading="busy">State it</ActButton>
          <v-btn size="small" variant="text" @click="editing = false">Back</v-btn>
        </form>
        <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
        <button v-if="may && !editing" id="cause" type="button" class="edit" @click="begin">
          {{ sum.stated ? 'Edit the cause' : 'State the cause' }}
        </button>
      </div>
      <div>
        <h2>Done</h2>
        <p v-for="(t, n) in sum.done" :key="n" class="main"><StoryText :text="t" /></p>
      </div>
      <div>
        <h2>Approved by</h2>
        <p v-for="(t, n) in sum.approved" :key="n"><StoryText :text="t" /></p>
      </div>
      <div :class="{ proved: sum.proved }">
        <h2>Effect</h2>
        <p class="main"><StoryText :text="sum.effect" /></p>
      </div>
    </div>
  </section>
</template>

<style scoped>
.sum {
  background: rgb(var(--v-theme-surface));
  border: 1px solid rgba(var(--v-theme-on-surface), 0.16);
  border-left-width: 6px;
  border-radius: 6px;
  margin: 12px 0 16px;
}
.ended {
  padding: 12px 16px;
  border-bottom: 1px solid rgba(var(--v-theme-on-surface), 0.12);
}
.big {
  width: 20px;
  height: 20px;
}
.lead {
  font-size: 24px;
  line-height: 32px;
  font-weight: 700;
  letter-spacing: -0.01em;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(4, 1fr);
}
.tiles :deep(.mono) {
  font-family: inherit;
  font-size: inherit;
}
.tiles > div {
  padding: 12px 16px 14px;
  border-left: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  min-width: 0;
  overflow-wrap: anywhere;
}
.tiles > div:first-child {
  border-left: 0;
}
.tiles h2 {
  margin: 0 0 6px;
  font-size: 12px;
  color: rgba(var(--v-theme-on-surface), 0.74);
}
.edit {
  border: 0;
  background: none;
  padding: 4px 0;
  min-height: 24px;
  color: rgb(var(--v-theme-primary));
  font: inherit;
  font-size: 12px;
  cursor: pointer;
}
.state {
  display: grid;
  gap: 6px;
}
.main {
  font-size: 15px;
  font-weight: 600;
}
.proved .main {
  color: rgb(var(--v-theme-success));
}
@media (max-width: 1000px) {
  .tiles {
    grid-template-columns: repeat(2, 1fr);
  }
  .tiles > div:nth-child(odd) {
    border-left: 0;
  }
  .tiles > div:nth-child(n + 3) {
    border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  }
}
@media (max-width: 600px) {
  .tiles {
    grid-template-columns: 1fr;
  }
  .tiles > div {
    border-left: 0;
  }
  .tiles > div + div {
    border-top: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  }
}
</style>
