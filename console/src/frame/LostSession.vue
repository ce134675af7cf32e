<script setup lang="ts">
import ActButton from '../components/ActButton.vue'
import { computed, ref } from 'vue'

import { useAttempt } from '../composables/attempt'
import { useSession } from '../composables/session'

/** Lies over the page when its session is over. What is typed below it stays. */
const session = useSession()
const name = ref(session.me?.name ?? '')
const password = ref('')
const { wrong, busy, attempt } = useAttempt()
const other = computed(() => name.value.trim() !== session.me?.name)
const go = () => attempt(() => session.signIn(name.value.trim(), password.value))
</script>

<template>
  <v-dialog :model-value="true" persistent max-width="420" aria-label="Sign in again">
    <form class="sheet" @submit.prevent="go">
      <h2>Your session is over</h2>
      <p>
        Sign in again to go on: this page stays as it is, with all that you typed. What you asked for since it ended was
        refused.
      </p>
      <v-text-field v-model="name" label="Name" name="username" autocomplete="username" hide-details />
      <v-text-field
        v-model="password"
        label="Password"
        name="password"
        type="password"
        autocomplete="current-password"
        autofocus
        hide-details
      />
      <p v-if="other" class="faint">Whoever signs in under another name begins with an empty page.</p>
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <ActButton type="submit" color="primary" variant="flat" :loading="busy" :disabled="!name || !password"
        >Sign in</ActButton
      >
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
}
h2 {
  font-size: 18px;
  margin: 0;
}
</style>
