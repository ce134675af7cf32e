import { expect, test } from 'vitest'

import type { Schemas } from '../api/client'
import { group, human, notHad, readings, say, waitsForPerson, word } from './record'

const entry = (seq: number, kind: string, more: Partial<Schemas['Entry']> = {}): Schemas['Entry'] =>
  ({
    seq,
    kind,
    at: '2031-03-01T02:00:00Z',
    actor: 'runbook:b',
    run: 'r1',
    step: '',
    title: kind,
    content: {},
    digest: '',
    prev: '',
    hash: '',
    ...more,
  }) as unknown as Schemas['Entry']

test('entries of one step that follow one another stand together', () => {
  const groups = group([
    entry(1, 'alert.raised', { run: '' }),
    entry(2, 'look.taken', { step: '1', content: { step_title: 'Depth', verb: 'look' } }),
    entry(3, 'look.taken', { step: '1', content: { step_title: 'Depth', verb: 'look' } }),
    entry(4, 'check.passes', { step: '2' }),
    entry(5, 'look.taken', { step: '1' }),
    entry(6, 'look.taken', { step: '1', run: 'r2' }),
  ])
  expect(groups.map((g) => g.lines.map((l) => l.entry.seq))).toEqual([[1], [2, 3], [4], [5], [6]])
  expect(groups[1]).toMatchObject({ title: 'Depth', verb: 'look' })
})

test('each kind has a word, and an unknown one its first part', () => {
  expect(word(entry(1, 'check.unsure'))).toBe('unsure')
  expect(word(entry(1, 'undo.begun'))).toBe('undo')
  expect(word(entry(1, 'something.new'))).toBe('something')
})

test('what people did stands out, and what waits for them', () => {
  expect(human(entry(1, 'gate.approved', { actor: 'mara' }))).toBe(true)
  expect(human(entry(1, 'question.answered', { actor: 'runbook:b' }))).toBe(false)
  expect(human(entry(1, 'note', { actor: 'mara' }))).toBe(true)
  expect(human(entry(1, 'note'))).toBe(false)
  expect(waitsForPerson(entry(1, 'gate.raised'))).toBe(true)
  expect(waitsForPerson(entry(1, 'look.taken'))).toBe(false)
})

test('readings are shown by name, with their unit, and nothing is taken for something', () => {
  expect(
    readings({ readings: { stuck: { value: '' }, depth: { value: 812, unit: 'messages' }, all: { value: [1, 2] } } }),
  ).toEqual([
    { name: 'all', text: '[1,2]' },
    { name: 'depth', text: '812 messages' },
    { name: 'stuck', text: '(empty)' },
  ])
  expect(readings({})).toEqual([])
})

test('what could not be had is named, whether a look or a look back says so', () => {
  expect(notHad({ missing: { lag: 'no match', depth: 'no such column' } })).toEqual([
    'depth is missing: no such column',
    'lag is missing: no match',
  ])
  expect(notHad({ missing: ['load: the store did not answer'] })).toEqual(['load: the store did not answer'])
  expect(notHad({})).toEqual([])
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
