import type { Schemas } from '../api/client'
import type { ShapeName } from './shapes'

type Entry = Schemas['Entry']
type Row = Schemas['StoryRow']
type Story = Schemas['Story']

/** What of a record is read at once. */
const page = 1000

/** Reads what was written since the newest entry that is known, and adds it. */
export async function appended(known: Entry[], read: (after: number) => Promise<Entry[]>): Promise<Entry[]> {
  const out = [...known]
  for (;;) {
    const more = await read(out.at(-1)?.seq ?? 0)
    out.push(...more)
    if (more.length < page) return more.length || out.length > known.length ? out : known
  }
}

/** A story with what came since: a row that is known by its first entry is replaced, where it stands. */
export async function grown(old: Story | undefined, more: Story, whole: () => Promise<Story>): Promise<Story> {
  if (!old) return more
  if (more.last < old.last) return whole() // the record was put back to an older state
  const rows = new Map<number, Row>(old.rows.map((r) => [r.first, r]))
  for (const r of more.rows) rows.set(r.first, r)
  return { ...more, rows: [...rows.values()].sort((a, b) => a.first - b.first) }
}

/** A line without its parts. */
export const plainText = (t: Schemas['Text']) => t.map((s) => s.text).join('')

/** What stands between a title and what follows it. */
export const between = (title: string) => (title.endsWith('?') ? ' ' : ': ')

/** How a state of a row looks: a shape, and only then a colour. */
export const rowLook: Record<Row['state'], { shape: ShapeName; color: string; word: string }> = {
  unknown: { shape: 'unsure', color: 'warning', word: 'unknown' },
  bad: { shape: 'cross', color: 'error', word: 'bad' },
  unsure: { shape: 'unsure', color: 'warning', word: 'unsure' },
  waiting: { shape: 'pennant', color: 'warning', word: 'waits' },
  going: { shape: 'waves', color: 'info', word: 'under way' },
  good: { shape: 'tick', color: 'success', word: 'good' },
  over: { shape: 'dash', color: '', word: '' },
}
