import { refDebounced } from '@vueuse/core'
import { ref, watch, type Ref } from 'vue'

import { api, got, type Schemas } from '../api/client'

/**
 * What a text that is being written would be as a runbook, asked for as it is written; the flow stays as it was drawn
 * last while something in the text is wrong. `edit` alters the text as its picture is altered: what was typed meanwhile
 * is never overwritten, as the alteration is asked for anew on the newest text.
 */
export function useSketch(text: Ref<string>, enabled: () => boolean) {
  const sketch = ref<Schemas['Sketch']>()
  const graph = ref<Schemas['Graph']>()
  /** Whether the flow is of the text as it stands. */
  const current = ref(false)
  const asked = refDebounced(text, 350)
  const ask = (edit?: Schemas['PictureEdit']) => got(api.POST('/api/v1/sketches', { body: { text: text.value, edit } }))
  function told(s: Schemas['Sketch']) {
    sketch.value = s
    if (s.graph) graph.value = s.graph
    current.value = Boolean(s.graph)
  }
  watch(
    asked,
    async (t) => {
      if (!enabled() || !t.trim()) return
      try {
        const s = await ask()
        if (t === text.value) told(s)
      } catch {
        current.value = false // the push beside it tells why
      }
    },
    { immediate: true },
  )
  watch(text, () => (current.value = false))
  async function edit(e: Schemas['PictureEdit']) {
    for (let tries = 0; tries < 3; tries++) {
      const before = text.value
      const s = await ask(e)
      if (text.value !== before) continue
      text.value = s.text
      told(s)
      return
    }
    throw new Error('The text changed while it was altered; nothing was altered.')
  }
  return { sketch, graph, current, edit }
}
