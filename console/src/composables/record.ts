import type { Schemas } from '../api/client'
import { kinds } from './kinds.gen'

/** What the record's entries hold, as far as the page shows it. */
export interface Content {
  verb?: string
  target?: string
  shown?: string
  undo?: string
  state?: string
  exit?: number
  error?: string
  took_ms?: number
  text?: string
  because?: string
  comment?: string
  result?: string
  unsure?: string
  outcome?: string
  source?: string
  ask?: string
  until?: string
  severity?: string
  started_by?: string
  rounds?: number
  reasons?: string[]
  labels?: Record<string, string>
  inputs?: Record<string, unknown>
  missing?: Record<string, string> | string[]
  values?: { part: string; text: string }[]
  differences?: { target?: string; at: string; says: string }[]
  items?: string[]
  fields?: Record<string, unknown>
  results?: Record<string, unknown>
  not_told?: string
  keys?: string[]
  key?: string
  holder?: string
  requests?: { target: string; shown: string; undo: string }[]
  readings?: Record<string, { value: unknown; unit?: string }>
  output?: Output
  stderr?: Output
}

export interface Output {
  head?: string
  tail?: string
  size: number
  artifact?: string
  cut?: boolean
}

export interface Line {
  entry: Schemas['Entry']
  content: Content
}

export interface Group {
  key: string
  title: string
  verb: string
  lines: Line[]
}

export const word = (e: Schemas['Entry']) => kinds[e.kind]?.word ?? e.kind.split('.')[0]

/** Entries that people decided stand out. */
export const human = (e: Schemas['Entry']) => Boolean(kinds[e.kind]?.said) && !e.actor.startsWith('runbook:')
export const waitsForPerson = (e: Schemas['Entry']) => Boolean(kinds[e.kind]?.wanted)

/** Groups entries of one step that follow one another. */
export function group(entries: Schemas['Entry'][]): Group[] {
  const out: Group[] = []
  for (const entry of entries) {
    const content = (entry.content ?? {}) as Content
    const key = entry.step ? `${entry.run}/${entry.step}` : `#${entry.seq}`
    const last = out[out.length - 1]
    if (last && last.key === key) last.lines.push({ entry, content })
    else
      out.push({
        key,
        title: String((entry.content as { step_title?: string } | undefined)?.step_title ?? entry.title),
        verb: content.verb ?? '',
        lines: [{ entry, content }],
      })
  }
  return out
}

/** What could not be had: readings of a look, by their names, or what a look back says in its own words. */
export function notHad(c: Content): string[] {
  if (Array.isArray(c.missing)) return c.missing
  return Object.entries(c.missing ?? {})
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([name, why]) => `${name} is missing: ${why}`)
}

/** A value as text: lists and objects as JSON. */
export const say = (v: unknown) => (typeof v === 'object' ? JSON.stringify(v) : String(v))

export const readings = (c: Content) =>
  Object.entries(c.readings ?? {})
    .sort(([a], [b]) => a.localeCompare(b))
    .map(([name, r]) => ({
      name,
      text: `${r.value === '' ? '(empty)' : say(r.value)} ${r.unit ?? ''}`.trim(),
    }))
