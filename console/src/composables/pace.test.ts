import { expect, test } from 'vitest'

import { least, Pace } from './pace'

/** A clock that is moved by waiting, and readings that take their time. */
function world(takes: number) {
  let now = 0
  const reads: number[] = []
  const wait = async (ms: number) => void (now += ms)
  const read = async () => {
    reads.push(now)
    await wait(takes)
  }
  return { reads, pace: new Pace(read, least, () => now, wait), at: (ms: number) => (now = ms) }
}

test('the first event is read at once, and those that come meanwhile once more', async () => {
  const w = world(30)
  const first = w.pace.stale()
  await new Promise<void>((go) => queueMicrotask(go))
  for (let i = 0; i < 50; i++) void w.pace.stale()
  await first
  expect(w.reads).toEqual([0, least])
  w.at(1000)
  await w.pace.stale()
  expect(w.reads).toEqual([0, least, 1000])
})

test('a reading that somebody began lands first, and is not enough', async () => {
  const w = world(0)
  let land = () => {}
  const done = w.pace.stale(new Promise<void>((go) => (land = go)))
  expect(w.reads).toEqual([])
  land()
  await done
  expect(w.reads).toEqual([0])
})

test('a reading that fails is not the last', async () => {
  let n = 0
  const p = new Pace(async () => {
    if (n++ === 0) throw new Error('down')
  })
  await p.stale()
  await p.stale()
  expect(n).toBe(2)
})
