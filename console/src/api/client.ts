import createClient from 'openapi-fetch'

import { plain, plainly } from '../composables/plain'
import type { components, paths } from './schema.gen'

export type Schemas = components['schemas']

export const api = createClient<paths>({ baseUrl: '/' })

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

/** Gives the answer, with nothing hidden in its texts, or throws what is wrong as one sentence. */
export async function got<T>(call: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  let r: Awaited<typeof call>
  try {
    r = await call
  } catch {
    throw new Refusal('The service cannot be reached.', 0, 'unreachable')
  }
  if (r.response.ok) return plainly(r.data as T)
  const p = r.error as Schemas['Problem'] | undefined
  throw new Refusal(
    p?.detail ? plain(p.detail) : `The service answered ${r.response.status}.`,
    r.response.status,
    p?.code ?? '',
    plainly(p?.findings ?? []),
  )
}
