import { useQueryClient } from '@tanstack/vue-query'
import { useDocumentVisibility, useEventListener, useTimeoutFn } from '@vueuse/core'
import { defineStore } from 'pinia'
import { reactive, ref, watch } from 'vue'

import { apart, Pace } from './pace'
import { plain } from './plain'

/** Output of a command while it prints. */
export interface Live {
  run: string
  incident?: number
  attempt: string
  path: string
  target: string
  text: string
}

const keep = 20_000

/** The service's stream: it makes pages read anew what has changed, and carries live output. */
export const useLive = defineStore('live', () => {
  const queries = useQueryClient()
  const connected = ref(true)
  const output = reactive(new Map<string, Live>())
  let source: EventSource | null = null
  const paces = new Map<string, Pace>()

  /** Has what the keys name read anew: at once, and then once in a while as long as events come. */
  function refresh(...keys: string[]) {
    const of = queries.getQueryCache().findAll({
      predicate: (q) =>
        keys.includes('all') || keys.includes(String(q.queryKey[0])) || keys.includes(q.queryKey.slice(0, 2).join('/')),
    })
    for (const q of of) {
      q.invalidate()
      if (!q.isActive()) continue
      let p = paces.get(q.queryHash)
      if (!p)
        paces.set(
          q.queryHash,
          (p = new Pace(() => queries.refetchQueries({ queryKey: q.queryKey, exact: true }), apart(q.queryKey))),
        )
      void p.stale(q.state.fetchStatus === 'fetching' ? q.promise : undefined)
    }
  }

  function open() {
    close()
    source = new EventSource('/api/v1/stream')
    source.onopen = () => {
      if (!connected.value) refresh('all')
      connected.value = true
    }
    source.onerror = () => {
      connected.value = false
      if (source?.readyState === EventSource.CLOSED) window.setTimeout(() => source && open(), 2_000)
    }
    source.addEventListener('changed', (e) => {
      const m = JSON.parse((e as MessageEvent<string>).data) as { topic: string; id: string; incident?: number }
      refresh(`${m.topic}s`, `${m.topic}/${m.id}`, 'status')
      if (m.incident) refresh('incidents', `incident/${m.incident}`)
      if (m.topic === 'run') for (const [k, v] of output) if (v.run === m.id && output.size > 20) output.delete(k)
    })
    source.addEventListener('behind', () => refresh('all'))
    source.addEventListener('output', (e) => {
      const o = JSON.parse((e as MessageEvent<string>).data) as Live
      const before = output.get(o.attempt)?.text ?? ''
      output.set(o.attempt, { ...o, text: (before + plain(o.text)).slice(-keep) })
    })
  }

  function close() {
    source?.close()
    source = null
  }

  // A browser has six connections for one service. Pages that nobody sees give theirs back, so that
  // many tabs, or pages kept for the way back, do not leave the newest one waiting.
  let wanted = false
  function rest() {
    if (source) wanted = true
    close()
  }
  const idle = useTimeoutFn(rest, 30_000, { immediate: false })
  function wake() {
    idle.stop()
    if (!wanted || source) return
    wanted = false
    open()
    refresh('all')
  }
  useEventListener(window, 'pagehide', rest)
  useEventListener(window, 'pageshow', wake)
  watch(useDocumentVisibility(), (seen) => (seen === 'visible' ? wake() : idle.start()))

  return { connected, output, open, close }
})
