import { expect, test } from 'vitest'

import { percent } from './objective'

test('a share is never told as more than it is', () => {
  expect(percent(undefined)).toBe('not known')
  expect(percent(1)).toBe('100.0 %')
  expect(percent(0.999999)).toBe('99.999 %')
  expect(percent(0.98765)).toBe('98.7 %')
  expect(percent(0)).toBe('0.0 %')
  expect(percent(-0.4)).toBe('-40.0 %')
})
