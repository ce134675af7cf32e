/** One line of a chart. A point without a value is a gap in this line alone. */
export interface Line {
  name: string
  points: { at: string; value?: number; low?: number; high?: number }[]
  /** It is to be seen first, and is named at its end. */
  strong?: boolean
}

/** What a value is to fulfil: `<`, `<=`, `>` and so on, and a number. */
export interface Limit {
  op: string
  value?: number
}

/** Something that happened. */
export interface Mark {
  at: string
  what: string
  title: string
  /** A word or two that stand above its line. */
  label?: string
}

export type Column = (number | null | undefined)[]

/**
 * All lines on one axis of times in seconds: for each line its values, and what was lowest and highest. null is a gap;
 * undefined is a time of another line, and is drawn through.
 */
export function aligned(lines: Line[]): { times: number[]; columns: { last: Column; low: Column; high: Column }[] } {
  const seconds = (at: string) => Date.parse(at) / 1000
  const times = [...new Set(lines.flatMap((l) => l.points.map((p) => seconds(p.at))))].sort((a, b) => a - b)
  return {
    times,
    columns: lines.map((l) => {
      const by = new Map(l.points.map((p) => [seconds(p.at), p]))
      const column = (pick: (p: Line['points'][number]) => number | undefined): Column =>
        times.map((t) => {
          const p = by.get(t)
          return p && (pick(p) ?? null)
        })
      return {
        last: column((p) => p.value),
        low: column((p) => p.low ?? p.value),
        high: column((p) => p.high ?? p.value),
      }
    }),
  }
}

/** Whether anything of it was lower or higher than what was last. */
export const spread = (l: Line) =>
  l.points.some((p) => (p.low !== undefined && p.low !== p.value) || (p.high !== undefined && p.high !== p.value))

/**
 * The scale of what is drawn: what was measured and a little room. A limit is within it where it is not further away
 * than three times what was measured, and zero where it is near; where the limit is beyond, `beyond` says on which side.
 */
export function scaleOf(lines: Line[], limit?: Limit): { min: number; max: number; beyond?: 'above' | 'below' } {
  let low = Infinity
  let high = -Infinity
  for (const l of lines)
    for (const p of l.points)
      for (const v of [p.value, p.low, p.high])
        if (v !== undefined) {
          low = Math.min(low, v)
          high = Math.max(high, v)
        }
  const at = limit?.value
  if (low > high) [low, high] = at === undefined ? [0, 1] : [at, at]
  const measured = high - low || Math.abs(high) || 1
  let beyond: 'above' | 'below' | undefined
  if (at !== undefined) {
    if (at > high + 3 * measured) beyond = 'above'
    else if (at < low - 3 * measured) beyond = 'below'
    else {
      low = Math.min(low, at)
      high = Math.max(high, at)
    }
  }
  const span = high - low || measured
  if (low > 0 && low <= span / 4) low = 0
  if (high < 0 && -high <= span / 4) high = 0
  const room = (high - low || measured) * 0.08
  return { min: low === 0 ? 0 : low - room, max: high === 0 ? (low === 0 ? 1 : 0) : high + room, beyond }
}

/** Whether a value misses what is wanted. */
export function misses(value: number, limit?: Limit): boolean {
  if (!limit || limit.value === undefined) return false
  switch (limit.op) {
    case '<':
      return value >= limit.value
    case '<=':
      return value > limit.value
    case '>':
      return value <= limit.value
    case '>=':
      return value < limit.value
    case '==':
      return value !== limit.value
  }
  return value === limit.value
}

/** Lines, that whose newest value is the worst first: what misses the limit, or lies on the side that is not good. */
export function worstFirst<T extends Line>(lines: T[], limit?: Limit, good?: string): T[] {
  const low = limit ? limit.op.startsWith('>') : good === 'high'
  const newest = (l: Line) => l.points.filter((p) => p.value !== undefined).at(-1)?.value
  return [...lines].sort((a, b) => {
    const [x, y] = [newest(a), newest(b)]
    if (x === undefined || y === undefined) return Number(x === undefined) - Number(y === undefined)
    return (low ? x - y : y - x) || a.name.localeCompare(b.name, 'en', { numeric: true })
  })
}

/** Places from the top down that stay apart by so much, moved as little as that needs, none below the bottom. */
export function apart(places: number[], by: number, bottom: number): number[] {
  const out: number[] = []
  for (const y of places) out.push(Math.max(y, (out.at(-1) ?? -Infinity) + by))
  for (let i = out.length - 1, most = bottom; i >= 0; i--, most = (out[i + 1] ?? most) - by)
    out[i] = Math.min(out[i] ?? 0, most)
  return out
}

/** A chart as a table: for each slice of time what was lowest, highest and last of each line; `gap` where nothing was. */
export function slices(lines: Line[], from: number, until: number, most = 60) {
  const length = Math.max(1000, (until - from) / most)
  const rows: { at: number; cells: string[] }[] = []
  for (let t = from; t < until; t += length) {
    const cells = lines.map((l) => {
      const values = l.points.filter((p) => {
        const at = Date.parse(p.at)
        return at >= t && at < t + length && p.value !== undefined
      })
      const last = values.at(-1)?.value
      if (last === undefined) return ''
      const low = Math.min(...values.map((p) => p.low ?? p.value ?? last))
      const high = Math.max(...values.map((p) => p.high ?? p.value ?? last))
      return low === high ? short(last) : `${short(last)} (${short(low)} to ${short(high)})`
    })
    if (cells.some(Boolean)) rows.push({ at: t, cells: cells.map((c) => c || 'none') })
  }
  return rows
}

/** A number in five figures at most. */
export const short = (v: number) => String(+v.toPrecision(5))
