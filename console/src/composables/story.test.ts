import { expect, test } from 'vitest'

import type { Schemas } from '../api/client'
import { appended, between, grown, plainText } from './story'

const entry = (seq: number) => ({ seq }) as Schemas['Entry']
const row = (first: number, title: string) => ({ first, title }) as Schemas['StoryRow']
const story = (last: number, ...rows: Schemas['StoryRow'][]) => ({ last, rows, sum: {} }) as Schemas['Story']

test('only what was written since is read, however much it is', async () => {
  const asked: number[] = []
  const all = Array.from({ length: 2500 }, (_, i) => entry(i + 1))
  const read = async (after: number) => {
    asked.push(after)
    return all.slice(after, after + 1000)
  }
  expect(await appended([], read)).toEqual(all)
  expect(asked).toEqual([0, 1000, 2000])
  asked.length = 0
  expect(await appended(all.slice(0, 2499), read)).toEqual(all)
  expect(asked).toEqual([2499])
  const known = all.slice()
  expect(await appended(known, read)).toBe(known)
})

test('a row that went on is replaced where it stands', async () => {
  const whole = () => Promise.reject(new Error('not wanted'))
  const old = story(4, row(1, 'alert'), row(2, 'waits'), row(4, 'ticket'))
  const now = await grown(old, story(6, row(2, 'approved'), row(6, 'change')), whole)
  expect(now.rows.map((r) => r.title)).toEqual(['alert', 'approved', 'ticket', 'change'])
  expect(now.last).toBe(6)
  expect(await grown(undefined, old, whole)).toBe(old)
})

test('a record that was put back is read whole', async () => {
  const back = story(2, row(1, 'alert'))
  expect(await grown(story(4, row(1, 'alert'), row(4, 'x')), back, async () => back)).toBe(back)
})

test('a line, and what stands before it', () => {
  expect(plainText([{ text: 'depth ' }, { text: '12', is: 'value' }])).toBe('depth 12')
  expect(between('Is it draining?') + between('Park it')).toBe(' : ')
})
