import { useMutation, useQuery, useQueryClient } from '@tanstack/vue-query'
import { computed, inject, toValue, type InjectionKey, type MaybeRefOrGetter } from 'vue'

import { api, got, type Schemas } from '../api/client'
import { appended, grown } from './story'

export const useIncidents = (
  state?: 'open' | 'closed',
  limit = 50,
  more: MaybeRefOrGetter<Partial<Schemas['Search']>> = {},
) =>
  useQuery({
    queryKey: computed(() => ['incidents', state ?? 'all', limit, toValue(more)]),
    queryFn: () => got(api.GET('/api/v1/incidents', { params: { query: { limit, state, ...toValue(more) } } })),
    placeholderData: (old) => old,
  })

export const useIncident = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['incident', String(toValue(number))]),
    queryFn: () =>
      got(
        api.GET('/api/v1/incidents/{number}', {
          params: { path: { number: toValue(number) }, query: { entries: false } },
        }),
      ),
  })

/** The record of an incident. What is known of it is not read anew: only what was written since is. */
export const useRecord = (number: MaybeRefOrGetter<number>, wanted: MaybeRefOrGetter<boolean>) => {
  const queries = useQueryClient()
  const key = computed(() => ['incident', String(toValue(number)), 'entries'])
  return useQuery({
    queryKey: key,
    queryFn: () =>
      appended(queries.getQueryData<Schemas['Entry'][]>(key.value) ?? [], (after) =>
        got(
          api.GET('/api/v1/incidents/{number}/entries', {
            params: { path: { number: toValue(number) }, query: { after } },
          }),
        ),
      ),
    enabled: () => toValue(wanted),
    structuralSharing: false,
  })
}

/** The story of an incident: rows that went on since are replaced, and new ones are added. */
export const useStory = (number: MaybeRefOrGetter<number>) => {
  const queries = useQueryClient()
  const key = computed(() => ['incident', String(toValue(number)), 'story'])
  return useQuery({
    queryKey: key,
    queryFn: async () => {
      const old = queries.getQueryData<Schemas['Story']>(key.value)
      const ask = (after: number) =>
        got(
          api.GET('/api/v1/incidents/{number}/story', {
            params: { path: { number: toValue(number) }, query: { after } },
          }),
        )
      return grown(old, await ask(old?.last ?? 0), () => ask(0))
    },
    structuralSharing: false,
  })
}

/** How bad an incident is now, by its leading reading, and whom it harms. */
export const useStanding = (number: MaybeRefOrGetter<number>, live: MaybeRefOrGetter<boolean> = true) =>
  useQuery({
    queryKey: computed(() => ['incident', String(toValue(number)), 'standing']),
    queryFn: () =>
      got(api.GET('/api/v1/incidents/{number}/standing', { params: { path: { number: toValue(number) } } })),
    refetchInterval: () => (toValue(live) ? 5_000 : false),
    placeholderData: (old) => old,
  })

export const useRuns = (active: boolean) =>
  useQuery({
    queryKey: ['runs', active],
    queryFn: () => got(api.GET('/api/v1/runs', { params: { query: { active, limit: 50 } } })),
  })

export const useRun = (id: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['run', toValue(id)]),
    queryFn: () => got(api.GET('/api/v1/runs/{id}', { params: { path: { id: toValue(id) } } })),
  })

export const useGates = () => useQuery({ queryKey: ['gates'], queryFn: () => got(api.GET('/api/v1/gates')) })

/** Who of each team is on call now. It changes with the time, so it is asked again each minute. */
export const useOnCall = (enabled: MaybeRefOrGetter<boolean> = true) =>
  useQuery({
    queryKey: ['teams'],
    enabled,
    queryFn: () => got(api.GET('/api/v1/on-call', { params: { query: {} } })),
    refetchInterval: 60_000,
  })

/** A link that was sent to somebody, by whose key a page looks and acts in the place of a session. */
export interface SentLink {
  key: string
  opened: Schemas['OpenedLink']
}

export const sentLink: InjectionKey<SentLink> = Symbol('sent link')

/** What a link is about. Nothing is decided by looking. */
export const openLink = (key: string) => got(api.POST('/api/v1/links/open', { body: { key } }))

/** Takes, approves, refuses or answers by a link. */
export const actByLink = (act: Schemas['LinkAct']) => got(api.POST('/api/v1/links/act', { body: act }))

/** One gate with all that somebody needs to decide it. */
export const useGate = (id: MaybeRefOrGetter<string>) => {
  const link = inject(sentLink, null)
  return useQuery({
    queryKey: computed(() => ['gate', toValue(id)]),
    queryFn: async () => {
      const sent = link && (await openLink(link.key)).gate
      return sent ?? got(api.GET('/api/v1/gates/{id}', { params: { path: { id: toValue(id) } } }))
    },
  })
}

/** Messages about an incident, the newest first. */
export const useMessages = (incident: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['messages', toValue(incident)]),
    queryFn: () => got(api.GET('/api/v1/messages', { params: { query: { incident: toValue(incident), limit: 50 } } })),
    refetchInterval: 10_000,
  })

/** What is urgent and nobody has taken yet; of one incident, or of all. */
export const useEscalations = (incident?: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['escalations', toValue(incident) ?? 0]),
    queryFn: () => got(api.GET('/api/v1/escalations', { params: { query: { incident: toValue(incident) } } })),
    refetchInterval: 5_000,
  })

export const useQuestions = () =>
  useQuery({ queryKey: ['questions'], queryFn: () => got(api.GET('/api/v1/questions')) })

export const useStatus = () => useQuery({ queryKey: ['status'], queryFn: () => got(api.GET('/api/v1/status')) })

export const useLibrary = () => useQuery({ queryKey: ['library'], queryFn: () => got(api.GET('/api/v1/library')) })
export const useLibraryRunbook = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: ['library', name],
    queryFn: () => got(api.GET('/api/v1/library/{name}', { params: { path: { name: toValue(name) } } })),
    enabled: () => toValue(name) !== '',
  })
export const useRunbooks = () => useQuery({ queryKey: ['runbooks'], queryFn: () => got(api.GET('/api/v1/runbooks')) })

export const useRunbook = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['runbook', toValue(name)]),
    queryFn: () => got(api.GET('/api/v1/runbooks/{name}', { params: { path: { name: toValue(name) } } })),
  })

export const useDecide = () => {
  const link = inject(sentLink, null)
  return useMutation<unknown, Error, { id: string; approve: boolean; digest: string; comment: string }>({
    mutationFn: (d) =>
      link
        ? actByLink({
            key: link.key,
            do: d.approve ? 'approve' : 'refuse',
            digest: d.digest,
            comment: d.comment || undefined,
          })
        : got(
            api.POST('/api/v1/gates/{id}/decision', {
              params: { path: { id: d.id } },
              body: { approve: d.approve, digest: d.digest, comment: d.comment || undefined },
            }),
          ),
  })
}

export const useAnswer = () => {
  const link = inject(sentLink, null)
  return useMutation<unknown, Error, { id: string; choice: string; comment: string; fields?: Record<string, unknown> }>(
    {
      mutationFn: (d) =>
        link
          ? actByLink({
              key: link.key,
              do: 'answer',
              choice: d.choice,
              comment: d.comment || undefined,
              fields: d.fields,
            })
          : got(
              api.POST('/api/v1/questions/{id}/answer', {
                params: { path: { id: d.id } },
                body: { choice: d.choice, comment: d.comment || undefined, fields: d.fields },
              }),
            ),
    },
  )
}

export const useNote = (number: MaybeRefOrGetter<number>) =>
  useMutation({
    mutationFn: (text: string) =>
      got(
        api.POST('/api/v1/incidents/{number}/notes', { params: { path: { number: toValue(number) } }, body: { text } }),
      ),
  })

/** Takes a look of the record again; how it is now is written into the record. */
export const useLookAgain = (number: MaybeRefOrGetter<number>) =>
  useMutation({
    mutationFn: (body: Schemas['NewLook']) =>
      got(api.POST('/api/v1/incidents/{number}/looks', { params: { path: { number: toValue(number) } }, body })),
  })

export const useClose = (number: MaybeRefOrGetter<number>) =>
  useMutation({
    mutationFn: (c: {
      outcome: 'repaired-by-hand' | 'mitigated' | 'false-alarm' | 'cleared-itself' | 'not-repaired'
      because: string
    }) => got(api.POST('/api/v1/incidents/{number}/close', { params: { path: { number: toValue(number) } }, body: c })),
  })

/** What may help with an incident: runbooks with their reasons, and what ended its like. */
export const useSuggestions = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['incident', toValue(number), 'suggestions']),
    queryFn: () =>
      got(api.GET('/api/v1/incidents/{number}/suggestions', { params: { path: { number: toValue(number) } } })),
  })

export const useAlertSuggestions = (id: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['alerts', 'suggestions', 'of', toValue(id)]),
    queryFn: () => got(api.GET('/api/v1/alerts/{id}/suggestions', { params: { path: { id: toValue(id) } } })),
  })

export const useStart = () =>
  useMutation({
    mutationFn: (r: { runbook: string; inputs: Record<string, unknown>; incident?: number }) =>
      got(api.POST('/api/v1/runs', { body: r })),
  })

export const useRunGraph = (id: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['run', toValue(id), 'graph']),
    queryFn: () => got(api.GET('/api/v1/runs/{id}/graph', { params: { path: { id: toValue(id) } } })),
  })

export const useRunbookGraph = (name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['runbook', toValue(name), 'graph']),
    queryFn: () => got(api.GET('/api/v1/runbooks/{name}/graph', { params: { path: { name: toValue(name) } } })),
  })

export const useAgain = () =>
  useMutation({ mutationFn: (id: string) => got(api.POST('/api/v1/runs/{id}/again', { params: { path: { id } } })) })

export const useResumeRun = () =>
  useMutation({
    mutationFn: (id: string) => got(api.POST('/api/v1/runs/{id}/resume', { params: { path: { id } }, body: {} })),
  })

export const useCancel = () =>
  useMutation({
    mutationFn: (c: { id: string; because: string; undo: boolean }) =>
      got(
        api.POST('/api/v1/runs/{id}/cancel', {
          params: { path: { id: c.id } },
          body: { because: c.because || undefined, undo: c.undo },
        }),
      ),
  })

export const useSources = () => useQuery({ queryKey: ['sources'], queryFn: () => got(api.GET('/api/v1/sources')) })

type Kind = Schemas['DocumentKind']

export const useDocuments = () =>
  useQuery({ queryKey: ['documents'], queryFn: () => got(api.GET('/api/v1/documents')) })

/** A document in use; a name of '' is none. */
export const useDocument = (kind: MaybeRefOrGetter<Kind>, name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['document', toValue(kind), toValue(name)]),
    queryFn: () =>
      got(
        api.GET('/api/v1/documents/{kind}/{name}', { params: { path: { kind: toValue(kind), name: toValue(name) } } }),
      ),
    enabled: computed(() => toValue(name) !== ''),
  })

export const useRevisions = (kind: MaybeRefOrGetter<Kind>, name: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['document', toValue(kind), toValue(name), 'revisions']),
    queryFn: () =>
      got(
        api.GET('/api/v1/documents/{kind}/{name}/revisions', {
          params: { path: { kind: toValue(kind), name: toValue(name) } },
        }),
      ),
    enabled: computed(() => toValue(name) !== ''),
  })

/** The searches for incidents that one kept. */
export const useSearches = () => useQuery({ queryKey: ['searches'], queryFn: () => got(api.GET('/api/v1/searches')) })

/** What alerts said so far, field by field. */
export const useSeen = () => useQuery({ queryKey: ['seen'], queryFn: () => got(api.GET('/api/v1/seen')) })

export const usePush = () =>
  useMutation({ mutationFn: (body: Schemas['NewPush']) => got(api.POST('/api/v1/push', { body })) })

export const useUnparsed = (source: MaybeRefOrGetter<string | undefined>, may: boolean) =>
  useQuery({
    queryKey: computed(() => ['unparsed', toValue(source) ?? '']),
    queryFn: () => got(api.GET('/api/v1/unparsed', { params: { query: { source: toValue(source) } } })),
    enabled: may,
  })

export const useAlert = (id: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['alert', toValue(id)]),
    queryFn: () => got(api.GET('/api/v1/alerts/{id}', { params: { path: { id: toValue(id) } } })),
  })

export const useAttachments = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['incident', String(toValue(number)), 'files']),
    queryFn: () => got(api.GET('/api/v1/incidents/{number}/files', { params: { path: { number: toValue(number) } } })),
  })

export const useTriggers = () => useQuery({ queryKey: ['triggers'], queryFn: () => got(api.GET('/api/v1/triggers')) })

export const useTrigger = (trigger: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['trigger', toValue(trigger)]),
    queryFn: () => got(api.GET('/api/v1/triggers/{trigger}', { params: { path: { trigger: toValue(trigger) } } })),
  })

export const useFirings = (trigger: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['trigger', toValue(trigger), 'firings']),
    queryFn: () =>
      got(
        api.GET('/api/v1/triggers/{trigger}/firings', {
          params: { path: { trigger: toValue(trigger) }, query: { limit: 100 } },
        }),
      ),
    refetchInterval: 10_000,
  })

export const useSwitch = (trigger: MaybeRefOrGetter<string>) =>
  useMutation({
    mutationFn: (body: Schemas['NewSwitch']) =>
      got(api.PUT('/api/v1/triggers/{trigger}/switch', { params: { path: { trigger: toValue(trigger) } }, body })),
  })

export const useHold = (number: MaybeRefOrGetter<number>) =>
  useMutation({
    mutationFn: (body: Schemas['NewHolder']) =>
      got(api.PUT('/api/v1/incidents/{number}/holder', { params: { path: { number: toValue(number) } }, body })),
  })

export const useListeners = (may: boolean) =>
  useQuery({
    queryKey: ['listeners'],
    queryFn: () => got(api.GET('/api/v1/listeners')),
    enabled: may,
    refetchInterval: 10_000,
  })

export const useTakeSample = () =>
  useMutation({
    mutationFn: ({ name, body }: { name: string; body: Schemas['NewSourceTry'] }) =>
      got(api.POST('/api/v1/sources/{name}/sample', { params: { path: { name } }, body })),
  })

export const useReadAgain = () =>
  useMutation({
    mutationFn: (id: string) => got(api.POST('/api/v1/unparsed/{id}/again', { params: { path: { id } } })),
  })

export const useServices = () => useQuery({ queryKey: ['services'], queryFn: () => got(api.GET('/api/v1/services')) })

/** How objectives stand: of one service, or of all. They are measured each minute, and asked when they were. */
export const useObjectives = (service: MaybeRefOrGetter<string> = '') =>
  useQuery({
    queryKey: computed(() => ['objectives', toValue(service)]),
    queryFn: () => got(api.GET('/api/v1/objectives', { params: { query: { service: toValue(service) } } })),
  })

export const useWatches = (service: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['watches', toValue(service)]),
    queryFn: () => got(api.GET('/api/v1/watches', { params: { query: { service: toValue(service) } } })),
    refetchInterval: 15_000,
  })

/** A stretch of time until now, by its length in hours; it moves on with each asking. */
export interface Stretch {
  hours: number
}
const stretch = (s: Stretch) => {
  const until = new Date()
  return { from: new Date(until.getTime() - s.hours * 3_600_000).toISOString(), until: until.toISOString() }
}
/** How often what is drawn is asked anew: each hundredth of it, from ten seconds to five minutes. */
const pace = (s: Stretch) => Math.min(300_000, Math.max(10_000, s.hours * 36_000))

/** How a service stands, in a sentence, and the pages outside for a stretch of time. */
export const useServiceStanding = (service: MaybeRefOrGetter<string>, s: MaybeRefOrGetter<Stretch>) =>
  useQuery({
    queryKey: computed(() => ['incidents', 'of', toValue(service), toValue(s).hours]),
    queryFn: () =>
      got(
        api.GET('/api/v1/services/{name}/standing', {
          params: { path: { name: toValue(service) }, query: stretch(toValue(s)) },
        }),
      ),
    refetchInterval: 30_000,
    placeholderData: (old) => old,
  })

export const useReadings = (service: MaybeRefOrGetter<string>) =>
  useQuery({
    queryKey: computed(() => ['readings', toValue(service)]),
    queryFn: () => got(api.GET('/api/v1/readings', { params: { query: { service: toValue(service) } } })),
    refetchInterval: 15_000,
  })

/** In how many points a course is drawn. */
const coursePoints = 300

export const useCourses = (service: MaybeRefOrGetter<string>, name: string, s: MaybeRefOrGetter<Stretch>) =>
  useQuery({
    queryKey: computed(() => ['readings', toValue(service), name, toValue(s).hours]),
    queryFn: async () => {
      const time = stretch(toValue(s))
      const query = { service: toValue(service), name, points: coursePoints, ...time }
      return { ...time, courses: await got(api.GET('/api/v1/readings/courses', { params: { query } })) }
    },
    refetchInterval: () => pace(toValue(s)),
    placeholderData: (old) => old,
  })

export const useObjectiveCourse = (
  name: string,
  s: MaybeRefOrGetter<Stretch>,
  enabled: MaybeRefOrGetter<boolean> = true,
) =>
  useQuery({
    enabled,
    queryKey: computed(() => ['objectives', 'course', name, toValue(s).hours]),
    queryFn: async () => {
      const time = stretch(toValue(s))
      const params = { path: { name }, query: { points: coursePoints, ...time } }
      return { ...time, points: await got(api.GET('/api/v1/objectives/{name}/course', { params })) }
    },
    refetchInterval: 60_000,
    placeholderData: (old) => old,
  })

export const useMarks = (service: MaybeRefOrGetter<string>, s: MaybeRefOrGetter<Stretch>) =>
  useQuery({
    queryKey: computed(() => ['marks', toValue(service), toValue(s).hours]),
    queryFn: () =>
      got(
        api.GET('/api/v1/services/{name}/marks', {
          params: { path: { name: toValue(service) }, query: stretch(toValue(s)) },
        }),
      ),
    refetchInterval: 30_000,
    placeholderData: (old) => old,
  })

export const useAround = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['incident', toValue(number), 'around']),
    queryFn: () => got(api.GET('/api/v1/incidents/{number}/around', { params: { path: { number: toValue(number) } } })),
  })

export const useBacks = (number: MaybeRefOrGetter<number>) =>
  useQuery({
    queryKey: computed(() => ['incident', toValue(number), 'back']),
    queryFn: () => got(api.GET('/api/v1/incidents/{number}/back', { params: { path: { number: toValue(number) } } })),
  })

export const useLookBack = (number: MaybeRefOrGetter<number>) =>
  useMutation({
    mutationFn: () =>
      got(api.POST('/api/v1/incidents/{number}/back', { params: { path: { number: toValue(number) } }, body: {} })),
  })

export const useServiceSuggestions = (
  name: MaybeRefOrGetter<string>,
  reading?: string,
  enabled: MaybeRefOrGetter<boolean> = true,
) =>
  useQuery({
    queryKey: computed(() => ['alerts', 'suggestions', toValue(name), reading ?? '']),
    queryFn: () =>
      got(
        api.GET('/api/v1/services/{name}/suggestions', {
          params: { path: { name: toValue(name) }, query: reading ? { reading } : {} },
        }),
      ),
    enabled,
  })
