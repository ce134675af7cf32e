import { computed } from 'vue'

import { useEscalations, useGates, useQuestions } from './data'
import { useSession } from './session'

/** One thing that waits for whoever is signed in. */
export interface Waiting {
  id: string
  kind: 'approval' | 'answer'
  title: string
  incident?: number
  run: string
  until: string
}

/** What waits for me, the soonest to expire first; what nobody has taken; and both, counted by incident. */
export function useWaits() {
  const session = useSession()
  const gates = useGates()
  const questions = useQuestions()
  const escalations = useEscalations()
  const mine = computed<Waiting[]>(() =>
    [
      ...(gates.data.value ?? []).filter((g) => g.may_decide).map((g): Waiting => ({ ...g, kind: 'approval' })),
      ...(session.may('responder') ? (questions.data.value ?? []) : []).map((q): Waiting => ({
        ...q,
        kind: 'answer',
        title: q.title || q.text,
      })),
    ].sort((a, b) => a.until.localeCompare(b.until)),
  )
  const unclaimed = computed(() => (escalations.data.value ?? []).filter((e) => e.incident && !e.thing))
  const count = computed(() => mine.value.length)
  const badge = computed(() => {
    const own = new Set(mine.value.map((w) => w.incident))
    return mine.value.length + unclaimed.value.filter((e) => !own.has(e.incident)).length
  })
  return { mine, unclaimed, count, badge, gates, questions, escalations }
}

/** Where something that waits is decided. */
export const placeOf = (w: { incident?: number; run: string }) =>
  w.incident ? `/incidents/${w.incident}` : `/runs/${w.run}`
