import { expect, test } from 'vitest'

import { aligned, apart, misses, scaleOf, slices, spread, worstFirst, type Line } from './chart'

const at = (s: number) => new Date(1_764_500_000_000 + s * 1000).toISOString()
const line = (name: string, ...points: [number, number?][]): Line => ({
  name,
  points: points.map(([s, value]) => ({ at: at(s), value })),
})

test('a gap in one of two lines is a gap in that one alone', () => {
  const { times, columns } = aligned([line('a', [0, 1], [5], [10, 3]), line('b', [0, 7], [10, 9])])
  expect(times).toHaveLength(3)
  expect(columns[0]?.last).toEqual([1, null, 3])
  expect(columns[1]?.last).toEqual([7, undefined, 9])
})

test('a peak within a point is within the scale', () => {
  const l: Line = { name: 'a', points: [{ at: at(0), value: 10, low: 8, high: 5000 }] }
  expect(spread(l)).toBe(true)
  expect(scaleOf([l]).max).toBeGreaterThan(5000)
  expect(aligned([l]).columns[0]?.high).toEqual([5000])
  expect(slices([l], Date.parse(at(0)), Date.parse(at(60)))[0]?.cells).toEqual(['10 (8 to 5000)'])
})

test('what lies close together is told apart', () => {
  const { min, max } = scaleOf([line('a', [0, 99.5], [1, 98])])
  expect(min).toBeGreaterThan(97)
  expect(max).toBeLessThan(100)
})

test('a limit is within the scale, or it is said where it is', () => {
  const near = scaleOf([line('a', [0, 100], [1, 150])], { op: '<', value: 200 })
  expect(near.max).toBeGreaterThan(200)
  expect(near.beyond).toBeUndefined()
  expect(scaleOf([line('a', [0, 1], [1, 2])], { op: '<', value: 1000 }).beyond).toBe('above')
  expect(scaleOf([line('a', [0, 900], [1, 901])], { op: '>', value: 10 }).beyond).toBe('below')
  expect(scaleOf([line('a', [0, 3], [1, 20])]).min).toBe(0)
  expect(scaleOf([], { op: '<', value: 5 }).max).toBeGreaterThan(5)
  expect(scaleOf([line('a', [0, 0])]).max).toBeGreaterThan(0)
})

test('what is missed is missed by its own limit', () => {
  for (const [op, bad, good] of [
    ['<', 5, 4],
    ['<=', 6, 5],
    ['>', 5, 6],
    ['>=', 4, 5],
    ['==', 4, 5],
    ['!=', 5, 4],
  ] as const) {
    expect(misses(bad, { op, value: 5 })).toBe(true)
    expect(misses(good, { op, value: 5 })).toBe(false)
  }
  expect(misses(5)).toBe(false)
})

test('the worst line stands first, and one that gave no number last', () => {
  const names = (l: Line[]) => l.map((x) => x.name)
  const lines = [line('b-2', [0, 5]), line('b-10', [0, 5]), line('a', [0, 9]), line('none', [0])]
  expect(names(worstFirst(lines))).toEqual(['a', 'b-2', 'b-10', 'none'])
  expect(names(worstFirst(lines, { op: '>=', value: 3 }))).toEqual(['b-2', 'b-10', 'a', 'none'])
  expect(names(worstFirst(lines, undefined, 'high'))).toEqual(['b-2', 'b-10', 'a', 'none'])
})

test('names beside ends stay apart, and above the bottom', () => {
  expect(apart([10, 12, 50], 12, 100)).toEqual([10, 22, 50])
  expect(apart([90, 95, 99], 12, 100)).toEqual([76, 88, 100])
  expect(apart([], 12, 100)).toEqual([])
})
