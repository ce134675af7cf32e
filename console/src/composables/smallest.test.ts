import { expect, test } from 'vitest'

import { smallest } from './smallest'

test('only what differs is replaced', () => {
  const apply = (a: string, b: string) => {
    const c = smallest(a, b)
    expect(a.slice(0, c.from) + c.insert + a.slice(c.to)).toBe(b)
    return c
  }
  expect(apply('abc', 'abXc')).toEqual({ from: 2, to: 2, insert: 'X' })
  expect(apply('aaa', 'aa')).toEqual({ from: 2, to: 3, insert: '' })
  expect(apply('abab', 'ab')).toEqual({ from: 2, to: 4, insert: '' })
  expect(apply('', 'x')).toEqual({ from: 0, to: 0, insert: 'x' })
  expect(apply('same', 'same')).toEqual({ from: 4, to: 4, insert: '' })
})
