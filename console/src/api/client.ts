import createClient from 'openapi-fetch'

import { heardAt } from '../composables/clock'
import { doneOnce } from '../composables/kinds.gen'
import { plain, plainly } from '../composables/plain'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']

const once = doneOnce.map((path) => new RegExp(`^${path.replace(/\{\w+\}/g, '[^/]+')}$`))

/** How long it is waited before each time that something is asked for again, in milliseconds. */
const waits = [1000, 2000, 4000, 8000]

/** Says that nobody knows whether what was asked for was done. */
class Dropped extends Error {}

/**
 * Asks the service. What it does once under an identity is asked for again where the connection drops, or while it is
 * being done: a phone in a lift begins no second run.
 */
export async function ask(request: Request, pauses = waits): Promise<Response> {
  if (request.method !== 'POST' || !once.some((path) => path.test(new URL(request.url).pathname))) return fetch(request)
  const id = Array.from(crypto.getRandomValues(new Uint8Array(16)), (b) => b.toString(16).padStart(2, '0')).join('')
  request.headers.set('Idempotency-Key', id)
  for (const pause of [0, ...pauses]) {
    if (pause) await new Promise((go) => setTimeout(go, pause))
    try {
      const answer = await fetch(request.clone())
      if (answer.status !== 409 || (await answer.clone().json()).code !== 'under-way') return answer
    } catch {
      // It may have arrived.
    }
  }
  throw new Dropped()
}

export const api = createClient<paths>({ baseUrl: '/', fetch: (request) => ask(request) })

/** What a person is told when the service says no. */
export class Refusal extends Error {
  constructor(
    message: string,
    readonly status: number,
    readonly code: string,
    readonly findings: Schemas['Finding'][] = [],
  ) {
    super(message)
  }
}

let lost = () => {}
/** What is done when the service no longer knows the session of whoever asks. */
export const onLost = (then: () => void) => {
  lost = then
}

/** Gives the answer, with nothing hidden in its texts, or throws what is wrong as one sentence. */
export async function got<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let r: Awaited<typeof call>
  try {
    r = await call
  } catch (e) {
    const unknown = e instanceof Dropped ? ' It is not known whether this was done: look before you do it again.' : ''
    throw new Refusal(`The service cannot be reached.${unknown}`, 0, 'unreachable')
  }
  heardAt(r.response.headers.get('Date'))
  if (r.response.ok) return plainly(r.data as T)
  if (r.response.status === 401) lost()
  const p = r.error as Schemas['Problem'] | undefined
  throw new Refusal(
    p?.detail ? plain(p.detail) : `The service answered ${r.response.status}.`,
    r.response.status,
    p?.code ?? '',
    plainly(p?.findings ?? []),
  )
}
