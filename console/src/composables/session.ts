import { defineStore } from 'pinia'
import { computed, ref } from 'vue'

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

  const includes: Record<string, string[]> = {
    viewer: ['viewer'], responder: ['viewer', 'responder'], operator: ['viewer', 'responder', 'operator'],
    approver: ['viewer', 'approver'], author: ['viewer', 'author'], admin: ['viewer', 'responder', 'operator', 'approver', 'author', 'admin'],
  }
  const roles = computed(() => new Set((me.value?.roles ?? []).flatMap((r) => includes[r] ?? [])))
  const may = (role: string) => roles.value.has(role)

  return { me, asked, ask, signIn, signOut, may }
})
