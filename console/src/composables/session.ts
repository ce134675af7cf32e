import { defineStore } from 'pinia'
import { ref } from 'vue'

import { api, got, Refusal, type Schemas } from '../api/client'

/** Who is signed in here. */
export const useSession = defineStore('session', () => {
  const me = ref<Schemas['Me'] | null>(null)
  const asked = ref(false)

  async function ask() {
    try {
      me.value = await got(api.GET('/api/v1/session'))
    } catch (e) {
      if (!(e instanceof Refusal) || e.status !== 401) throw e
      me.value = null
    }
    asked.value = true
  }

  async function signIn(name: string, password: string) {
    me.value = await got(api.POST('/api/v1/session', { body: { name, password } }))
    asked.value = true
  }

  async function signOut() {
    await got(api.DELETE('/api/v1/session'))
    me.value = null
  }

  const may = (role: Schemas['Role']) => Boolean(me.value?.may.includes(role))

  return { me, asked, ask, signIn, signOut, may }
})
