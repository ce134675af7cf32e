<script setup lang="ts">
import ActButton from './ActButton.vue'
import { useAttempt } from '../composables/attempt'

/** A form in a dialog: what does not go through is said below its fields, and nothing that was typed is lost. */
const props = withDefaults(
  defineProps<{
    title: string
    says?: string
    button: string
    ready?: boolean
    go: () => Promise<unknown>
  }>(),
  { ready: true },
)
const open = defineModel<boolean>({ required: true })
const emit = defineEmits<{ done: [] }>()
const { wrong, busy, attempt } = useAttempt()
const begin = () =>
  attempt(props.go, () => {
    open.value = false
    emit('done')
  })
</script>

<template>
  <v-dialog v-model="open" max-width="560" :aria-label="title">
    <form class="sheet" @submit.prevent="begin">
      <h2>{{ title }}</h2>
      <p v-if="says" class="faint">{{ says }}</p>
      <slot />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <div class="acts">
        <ActButton type="submit" color="primary" variant="flat" :disabled="!ready" :loading="busy">{{
          button
        }}</ActButton>
        <v-btn variant="text" @click="open = false">Back</v-btn>
      </div>
    </form>
  </v-dialog>
</template>

<style scoped>
.sheet {
  display: grid;
  gap: 12px;
  background: rgb(var(--v-theme-surface));
  border-radius: 6px;
  padding: 20px 24px;
  overflow-y: auto;
}
h2 {
  font-size: 18px;
  margin: 0;
}
.acts {
  display: flex;
  justify-content: space-between;
}
</style>
