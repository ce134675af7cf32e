<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import { api, got } from '../api/client'
import DoorForm from '../components/DoorForm.vue'
import { useSession } from '../composables/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')

async function go() {
  await got(
    api.POST('/api/v1/setup', {
      body: { code: String(route.query.code ?? ''), name: name.value, password: password.value },
    }),
  )
  await session.signIn(name.value, password.value)
  await router.push('/')
}
</script>

<template>
  <DoorForm
    title="The first administrator"
    says="This link works once. Choose a name and a password of at least ten characters."
    action="Begin"
    :ready="!!name && password.length >= 10"
    :go="go"
  >
    <v-text-field
      v-model="name"
      label="Name"
      hint="small letters, digits, dots and hyphens"
      persistent-hint
      autocomplete="username"
      autofocus
    />
    <v-text-field v-model="password" label="Password" type="password" autocomplete="new-password" hide-details />
  </DoorForm>
</template>
