<script setup lang="ts">
import { ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

import DoorForm from '../components/DoorForm.vue'
import { useSession } from '../composables/session'

const session = useSession()
const route = useRoute()
const router = useRouter()
const name = ref('')
const password = ref('')

async function go() {
  await session.signIn(name.value.trim(), password.value)
  const then = String(route.query.then ?? '/')
  await router.push(then.startsWith('/') && !then.startsWith('//') ? then : '/')
}
</script>

<template>
  <DoorForm title="Sign in to Urgentis" action="Sign in" :ready="!!name && !!password" :go="go">
    <v-text-field v-model="name" label="Name" name="username" autocomplete="username" autofocus hide-details />
    <v-text-field
      v-model="password"
      label="Password"
      name="password"
      type="password"
      autocomplete="current-password"
      hide-details
    />
    <template #below>
      <p class="faint">No account? An administrator adds people with <code class="mono">urgentis person add</code>.</p>
    </template>
  </DoorForm>
</template>
