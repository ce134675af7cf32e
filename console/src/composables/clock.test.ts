import { expect, test } from 'vitest'

import { relative, span } from './clock'
import { look } from './words'

test.each([
  [-5, '0 ms'],
  [0, '0 ms'],
  [999, '999 ms'],
  [1000, '1.0 s'],
  [9940, '9.9 s'],
  [9950, '10 s'],
  [59_400, '59 s'],
  [59_600, '1 min 0 s'],
  [3_599_400, '59 min 59 s'],
  [3_599_600, '1 h 0 min'],
  [7_170_000, '2 h 0 min'],
  [90_000_000, '25 h 0 min'],
])('%d ms is %s', (ms, text) => expect(span(ms)).toBe(text))

test('what is to come is told from what is over', () => {
  const now = Date.parse('2031-03-01T02:00:00Z')
  expect(relative('2031-03-01T02:00:00Z', now)).toBe('now')
  expect(relative('2031-03-01T01:59:00Z', now)).toBe('1 min 0 s ago')
  expect(relative('2031-03-01T02:00:30Z', now)).toBe('in 30 s')
})

test('a state is told by its word and shape, not by colour alone', () => {
  for (const state of ['running', 'waiting', 'unsure', 'failed', 'critical', 'repaired'])
    expect(look(state).word + look(state).shape).not.toBe('')
  expect(look('never-seen')).toMatchObject({ word: 'never-seen', shape: 'dash' })
})
