import { expect, test } from 'vitest'

import type { Schemas } from '../api/client'
import { blocks, human, lookOf, outputs, readings, said, say, waitsForPerson } from './record'

const entry = (seq: number, kind: string, more: Partial<Schemas['Entry']> = {}): Schemas['Entry'] =>
  ({
    seq,
    kind,
    at: '2031-03-01T02:00:00Z',
    actor: 'runbook:b',
    run: 'r1',
    step: '',
    title: kind,
    says: [],
    content: {},
    hash: '',
    ...more,
  }) as unknown as Schemas['Entry']

test('a record that grows keeps the blocks that are full', () => {
  const entries = Array.from({ length: 120 }, (_, n) => entry(n + 1, 'note'))
  const first = blocks(entries)
  expect(first.map((b) => b.length)).toEqual([50, 50, 20])
  expect(first.flat()).toEqual(entries)
  const grown = blocks([...entries, entry(121, 'note')], first)
  expect(grown[0]).toBe(first[0])
  expect(grown[1]).toBe(first[1])
  expect(grown[2]).not.toBe(first[2])
  expect(grown.map((b) => b.length)).toEqual([50, 50, 21])
  // A record that was put back to an older state and went on otherwise is another one.
  const otherwise = [...entries.slice(0, 60), ...Array.from({ length: 60 }, (_, n) => entry(n + 61, 'told'))]
  const other = blocks(otherwise, first)
  expect(other[0]).toBe(first[0])
  expect(other.flat()).toEqual(otherwise)
})

test('an entry is said in the words of the service', () => {
  expect(said(entry(1, 'look.taken', { title: 'Depth', says: [[{ text: 'depth ' }, { text: '12' }], []] }))).toBe(
    'Depth\ndepth 12\n',
  )
})

test('what people did stands out, and what waits for them', () => {
  expect(human(entry(1, 'gate.approved', { actor: 'mara' }))).toBe(true)
  expect(human(entry(1, 'question.answered', { actor: 'runbook:b' }))).toBe(false)
  expect(human(entry(1, 'note', { actor: 'mara' }))).toBe(true)
  expect(human(entry(1, 'note'))).toBe(false)
  expect(waitsForPerson(entry(1, 'gate.raised'))).toBe(true)
  expect(waitsForPerson(entry(1, 'look.taken'))).toBe(false)
})

test('what can be opened and taken again is that of looks', () => {
  const look = entry(1, 'look.taken', { step: '1', content: { shown: 'df', attempt: 'a', state: 'ok' } as never })
  expect(lookOf(look)).toEqual({ step: '1', run: 'r1' })
  expect(outputs(look)).toMatchObject([{ shown: 'df' }])
  expect(lookOf(entry(1, 'note'))).toBeUndefined()
  expect(outputs(entry(1, 'note'))).toEqual([])
})

test('readings are shown by name, with their unit, and nothing is taken for something', () => {
  expect(
    readings({
      readings: { stuck: { value: '' }, depth: { value: 812, unit: 'messages' }, all: { value: [1, 2] } },
    } as never),
  ).toEqual([
    { name: 'all', text: '[1,2]' },
    { name: 'depth', text: '812 messages' },
    { name: 'stuck', text: '(empty)' },
  ])
  expect(readings({} as never)).toEqual([])
})

test('values are written as people read them', () => {
  expect([say(5e6), say({ a: [1] }), say('x'), say(null), say(false)]).toEqual([
    '5000000',
    '{"a":[1]}',
    'x',
    'null',
    'false',
  ])
})
