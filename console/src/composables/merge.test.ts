import { expect, test } from 'vitest'

import { chosen, isConflict, merge } from './merge'

const base = 'a\nb\nc\nd\ne'

/** A generator that gives the same numbers each time. */
function dice(seed: number) {
  return (n: number) => {
    seed = (seed * 1103515245 + 12345) % 2147483648
    return seed % n
  }
}

test('what two people wrote at different places stands together', () => {
  const pieces = merge(base, 'a\nB\nc\nd\ne', 'a\nb\nc\nd\nE')
  expect(pieces.some(isConflict)).toBe(false)
  expect(chosen(pieces, [])).toBe('a\nB\nc\nd\nE')
})

test('what two people wrote at one place is asked, and both is never less than each', () => {
  const pieces = merge(base, 'a\nmine\nc\nd\ne', 'a\ntheirs\nc\nd\ne')
  expect(pieces.filter(isConflict)).toHaveLength(1)
  expect(chosen(pieces, ['mine'])).toBe('a\nmine\nc\nd\ne')
  expect(chosen(pieces, ['theirs'])).toBe('a\ntheirs\nc\nd\ne')
  expect(chosen(pieces, ['both'])).toBe('a\nmine\ntheirs\nc\nd\ne')
})

test('whoever wrote nothing has what the other wrote, and what both wrote alike is no conflict', () => {
  expect(chosen(merge(base, base, 'x\ny'), [])).toBe('x\ny')
  expect(chosen(merge(base, 'x\ny', base), [])).toBe('x\ny')
  expect(merge(base, 'same', 'same').some(isConflict)).toBe(false)
})

test('no line that anybody wrote is lost, whatever they wrote', () => {
  for (let seed = 1; seed < 300; seed++) {
    const d = dice(seed)
    const edit = (who: string) =>
      base
        .split('\n')
        .flatMap((l, i) => (d(4) === 0 ? [`${who}${seed}-${i}`] : d(8) === 0 ? [l, `${who}+${seed}-${i}`] : [l]))
        .join('\n')
    const [mine, theirs] = [edit('m'), edit('t')]
    const out = chosen(merge(base, mine, theirs), []).split('\n')
    for (const line of [...mine.split('\n'), ...theirs.split('\n')])
      if (/^[mt]/.test(line)) expect(out, `${seed}: ${line}`).toContain(line)
  }
})
