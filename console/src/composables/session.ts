import { defineStore } from 'pinia'
import { ref } from 'vue'

import { api, got, onLost, Refusal, type Schemas } from '../api/client'
import { queries } from '../api/queries'

/**
 * Who is signed in here. A session that the service no longer knows is `lost`: the page stays with all that is typed in
 * it, and whoever signs in again goes on where they were. Signing out forgets all that was read, in every tab.
 */
export const useSession = defineStore('session', () => {
  const me = ref<Schemas['Me'] | null>(null)
  const asked = ref(false)
  const lost = ref(false)
  const tabs = typeof BroadcastChannel === 'undefined' ? undefined : new BroadcastChannel('urgentis-session')

  async function ask() {
    try {
      me.value = await got(api.GET('/api/v1/session'))
    } catch (e) {
      if (!(e instanceof Refusal) || e.status !== 401) throw e
      me.value = null
    }
    asked.value = true
  }

  function forget() {
    me.value = null
    lost.value = false
    queries.clear()
  }

  async function signIn(name: string, password: string) {
    const before = me.value?.name
    const now = await got(api.POST('/api/v1/session', { body: { name, password } }))
    if (before !== now.name) {
      queries.clear()
      tabs?.postMessage(now.name)
    }
    me.value = now
    lost.value = false
    asked.value = true
    if (before === now.name) await queries.invalidateQueries()
  }

  async function signOut() {
    try {
      await got(api.DELETE('/api/v1/session'))
    } catch (e) {
      if (!(e instanceof Refusal) || e.status !== 401) throw e
    }
    forget()
    tabs?.postMessage('')
  }

  onLost(() => {
    if (me.value) lost.value = true
  })
  if (tabs)
    tabs.onmessage = (e) => {
      // Another tab signed in as the same person: what stands here stays, and goes on.
      if (e.data && me.value?.name === e.data) {
        lost.value = false
        void queries.invalidateQueries()
        return
      }
      forget()
      window.location.assign('/')
    }

  const may = (role: Schemas['Role']) => Boolean(me.value?.may.includes(role))

  return { me, asked, lost, ask, signIn, signOut, may }
})
