import { useQuery } from '@tanstack/vue-query'
import { computed, toValue, type MaybeRefOrGetter } from 'vue'

import { api, got, type Schemas } from '../api/client'

/** Of what a report tells: of a service, and of what was closed in the last so many days. */
export interface Reported {
  service?: string
  days: number
}

/** From when on, to the minute, so that one who looks again finds what is known. */
const since = (days: number) => new Date(Math.floor(Date.now() / 60_000) * 60_000 - days * 86_400_000).toISOString()
const asked = (w: Reported) => ({ service: w.service || undefined, from: since(w.days) })

export const useReport = (which: MaybeRefOrGetter<Reported>) =>
  useQuery({
    queryKey: computed(() => ['report', toValue(which)]),
    queryFn: () => got(api.GET('/api/v1/report', { params: { query: asked(toValue(which)) } })),
    // It counts months: no event is worth counting them anew.
    refetchInterval: 60_000,
    placeholderData: (old) => old,
  })

export const useCounted = (
  which: MaybeRefOrGetter<Reported>,
  of: MaybeRefOrGetter<{ figure: Schemas['FigureName']; of?: string }>,
) =>
  useQuery({
    queryKey: computed(() => ['report', toValue(which), toValue(of)]),
    queryFn: () => {
      const { figure, of: part } = toValue(of)
      return got(
        api.GET('/api/v1/report/incidents', { params: { query: { ...asked(toValue(which)), figure, of: part } } }),
      )
    },
  })

/** Where the facts are as comma-separated values. */
export const csvOf = (w: Reported) => {
  const q = new URLSearchParams({ from: since(w.days) })
  if (w.service) q.set('service', w.service)
  return `/api/v1/report/csv?${q}`
}
