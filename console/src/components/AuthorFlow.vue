<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp } from '@mdi/js'
import { computed, ref, watch } from 'vue'

import type { Schemas } from '../api/client'
import { useAttempt } from '../composables/attempt'
import { FlowGraph } from './lazy'

/** The flow of a runbook that is being written: where one is in the text stands out, and its steps can be altered. */
const props = defineProps<{
  sketch?: Schemas['Sketch']
  graph?: Schemas['Graph']
  current: boolean
  /** The line of the text that is worked on. */
  line: number
  edit: (e: Schemas['PictureEdit']) => Promise<void>
}>()
const emit = defineEmits<{ pick: [line: number] }>()
const { wrong, busy, attempt } = useAttempt()

const steps = computed(() => props.sketch?.steps ?? [])
const path = ref('')
const step = computed(() => steps.value.find((s) => s.path === path.value))
const title = ref('')
const verb = ref('look')
const verbs = ['look', 'check', 'ask', 'change', 'wait', 'tell', 'note', 'each', 'together']
/** Behind these verbs stands no title, but what is done. */
const untitled = ['close', 'hand_over', 'call', 'undo_change']
watch([() => props.line, steps], () => {
  const here = [...steps.value].sort((a, b) => (a.line ?? 0) - (b.line ?? 0)).filter((s) => (s.line ?? 0) <= props.line)
  path.value = here.at(-1)?.path ?? steps.value[0]?.path ?? ''
})
watch(step, (s) => (title.value = s?.title ?? ''), { immediate: true })
function pick(p: string) {
  path.value = p
  const line = steps.value.find((s) => s.path === p)?.line
  if (line) emit('pick', line)
}
/** Where the step stands after an alteration, or the new one. */
const moved = { up: -1, down: 1, add: 1, rename: 0, remove: 0 }
const alter = (e: Omit<Schemas['PictureEdit'], 'path'>) =>
  attempt(
    () => props.edit({ path: path.value, ...e }),
    () => {
      const [, list = '', n = ''] = /^(.*?)(\d+)$/.exec(path.value) ?? []
      pick(list + String(Number(n) + moved[e.op]))
    },
  )
</script>

<template>
  <div>
    <div v-if="steps.length" class="bar">
      <v-select
        :model-value="path"
        label="Step"
        :items="steps.map((s) => ({ title: `${s.path}  ${s.verb}: ${s.title}`, value: s.path }))"
        density="compact"
        hide-details
        class="which"
        @update:model-value="pick"
      />
      <v-btn size="small" aria-label="Up: before the step above it" :disabled="busy" @click="alter({ op: 'up' })"
        ><v-icon :icon="mdiArrowUp"
      /></v-btn>
      <v-btn size="small" aria-label="Down: after the step below it" :disabled="busy" @click="alter({ op: 'down' })"
        ><v-icon :icon="mdiArrowDown"
      /></v-btn>
      <v-btn size="small" :disabled="busy" @click="alter({ op: 'remove' })">Remove</v-btn>
    </div>
    <form
      v-if="step && !untitled.includes(step.verb)"
      class="bar"
      @submit.prevent="title !== step.title && alter({ op: 'rename', title })"
    >
      <v-text-field v-model="title" label="Its title" density="compact" hide-details maxlength="200" class="which" />
      <v-btn type="submit" size="small" :disabled="busy || !title.trim() || title === step.title">Rename</v-btn>
    </form>
    <form v-if="step" class="bar" @submit.prevent="alter({ op: 'add', verb, title: `New ${verb}` })">
      <v-select v-model="verb" label="After it" :items="verbs" density="compact" hide-details class="verb" />
      <v-btn type="submit" size="small" :disabled="busy">Add a step</v-btn>
    </form>
    <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
    <p v-if="graph && !current" role="status" class="faint">The flow is that of the last text without an error.</p>
    <div v-if="graph" class="picture"><FlowGraph :graph="graph" :picked="path" @pick="pick" /></div>
    <p v-else class="faint">The flow is drawn once the text has no error.</p>
  </div>
</template>

<style scoped>
.bar {
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin-bottom: 8px;
}
.which {
  flex: 1;
  min-width: 180px;
}
.verb {
  max-width: 160px;
}
.picture {
  margin-top: 40px;
}
</style>
