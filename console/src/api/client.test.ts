import { afterEach, expect, test, vi } from 'vitest'

import { ask } from './client'

afterEach(() => vi.unstubAllGlobals())

/** A service whose answers are given: undefined is a connection that drops. */
function service(...answers: (Response | undefined)[]) {
  const heard: { key: string | null; body: string }[] = []
  vi.stubGlobal('fetch', async (r: Request) => {
    heard.push({ key: r.headers.get('Idempotency-Key'), body: await r.text() })
    const answer = answers.shift()
    if (!answer) throw new TypeError('dropped')
    return answer
  })
  return heard
}

const post = (path: string) => new Request(`http://here${path}`, { method: 'POST', body: '{"runbook":"b"}' })
const problem = (code: string) => new Response(JSON.stringify({ code }), { status: 409 })

test('what is begun once is asked for again under one identity', async () => {
  const heard = service(undefined, problem('under-way'), new Response('{}', { status: 202 }))
  expect((await ask(post('/api/v1/runs'), [1, 1, 1])).status).toBe(202)
  expect(heard.length).toBe(3)
  expect(heard[0].key).toMatch(/^[0-9a-f]{32}$/)
  expect(new Set(heard.map((x) => x.key + x.body)).size).toBe(1)
})

test('a refusal is no reason to ask again', async () => {
  const heard = service(problem('unknown'))
  expect((await ask(post('/api/v1/runs/r1/again'), [1])).status).toBe(409)
  expect(heard.length).toBe(1)
})

test('where no answer comes nobody knows', async () => {
  service()
  await expect(ask(post('/api/v1/incidents/3/notes'), [1, 1])).rejects.toThrow()
})

test('anything else is asked for once', async () => {
  const heard = service(undefined, new Response('{}'))
  await expect(ask(post('/api/v1/gates/g/decision'), [1])).rejects.toThrow()
  expect(heard).toEqual([{ key: null, body: '{"runbook":"b"}' }])
})
