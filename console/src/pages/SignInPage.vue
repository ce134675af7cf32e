<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { Refusal } from '../api/client'
import { useSession } from '../composables/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const wrong = ref('')
const busy = ref(false)

async function go() {
  wrong.value = ''
  busy.value = true
  try {
    await session.signIn(name.value.trim(), password.value)
    const then = String(route.query.then ?? '/')
    await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/')
  } catch (e) {
    wrong.value = e instanceof Refusal ? e.message : String(e)
  } finally {
    busy.value = false
  }
}
</script>

<template>
  <div class="page narrow">
    <h1>Sign in to Urgentis</h1>
    <form @submit.prevent="go">
      <v-text-field v-model="name" label="Name" name="username" autocomplete="username" autofocus hide-details />
      <v-text-field
        v-model="password"
        label="Password"
        name="password"
        type="password"
        autocomplete="current-password"
        hide-details
      />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong.charAt(0).toUpperCase() + wrong.slice(1) }}.</p>
      <v-btn type="submit" color="primary" variant="flat" block :loading="busy" :disabled="!name || !password"
        >Sign in</v-btn
      >
    </form>
    <p class="faint">No account? An administrator adds people with <code class="mono">urgentis person add</code>.</p>
  </div>
</template>

<style scoped>
.narrow {
  max-width: 400px;
  padding-top: 12vh;
}
form {
  display: grid;
  gap: 14px;
  margin: 18px 0;
}
.wrong {
  color: rgb(var(--v-theme-error));
}
</style>
