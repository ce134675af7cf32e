import type { Schemas } from '../api/client'
import { kinds } from './kinds.gen'
import { plainText } from './story'

type Entry = Schemas['Entry']
type Attempt = Schemas['AttemptContent']

/** How many entries stand in a block. */
const most = 50

/**
 * A record in blocks. What is known stays the same block, so that a record that grows costs what is new of it and not
 * what it has.
 */
export function blocks(entries: Entry[], known: Entry[][] = []): Entry[][] {
  const out: Entry[][] = []
  for (let n = 0; n < entries.length; n += most) {
    const old = known[n / most]
    const last = Math.min(n + most, entries.length) - 1
    const same = old?.length === last - n + 1 && old[0] === entries[n] && old.at(-1) === entries[last]
    out.push(same ? old : entries.slice(n, n + most))
  }
  return out
}

/** Entries that people decided stand out. */
export const human = (e: Entry) => Boolean(kinds[e.kind]?.said) && !e.actor.startsWith('runbook:')
export const waitsForPerson = (e: Entry) => Boolean(kinds[e.kind]?.wanted)

/** What an entry says: its title, and a line for each thing besides. */
export const said = (e: Entry) => [e.title, ...e.says.map(plainText)].join('\n')

/** Whether an entry tells how an attempt on a target ended. */
export const isAttempt = (e: Entry): e is Entry & { content: Attempt } =>
  (e.kind.startsWith('look.') || e.kind === 'change.ended' || e.kind === 'change.reported' || e.kind === 'undo.done') &&
  e.content !== undefined

/** What was printed, to be opened below an entry. */
export const outputs = (e: Entry) =>
  isAttempt(e) ? [{ shown: e.content.shown, output: e.content.output, stderr: e.content.stderr }] : []

/** The look whose entry this is, as it is taken again; none for what is no look. */
export const lookOf = (e: Entry): Schemas['NewLook'] | undefined =>
  e.kind.startsWith('look.') && e.step && e.run ? { step: e.step, run: e.run } : undefined

/** A value as text: lists and objects as JSON. */
export const say = (v: unknown) => (typeof v === 'object' ? JSON.stringify(v) : String(v))

export const readings = (c: Attempt) =>
  Object.entries(c.readings ?? {})
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([name, r]) => ({
      name,
      text: `${r.value === '' ? '(empty)' : say(r.value)} ${r.unit ?? ''}`.trim(),
    }))
