<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got, Refusal } from '../api/client'
import { useSession } from '../composables/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')
const wrong = ref('')

async function go() {
  wrong.value = ''
  try {
    await got(
      api.POST('/api/v1/setup', {
        body: { code: String(route.query.code ?? ''), name: name.value, password: password.value },
      }),
    )
    await session.signIn(name.value, password.value)
    await router.push('/')
  } catch (e) {
    wrong.value = e instanceof Refusal ? e.message : String(e)
  }
}
</script>

<template>
  <div class="page narrow">
    <h1>The first administrator</h1>
    <p class="faint">This link works once. Choose a name and a password of at least ten characters.</p>
    <form @submit.prevent="go">
      <v-text-field
        v-model="name"
        label="Name"
        hint="small letters, digits, dots and hyphens"
        persistent-hint
        autocomplete="username"
        autofocus
      />
      <v-text-field v-model="password" label="Password" type="password" autocomplete="new-password" hide-details />
      <p v-if="wrong" role="alert" class="wrong">{{ wrong }}</p>
      <v-btn type="submit" color="primary" variant="flat" block :disabled="!name || password.length < 10">Begin</v-btn>
    </form>
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
