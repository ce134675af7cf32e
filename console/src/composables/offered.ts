import type { Schemas } from '../api/client'

const path = /\balert\.[\w.-]*$/
const compared = /\balert\.([\w.-]+)\s*(?:==|!=)\s*"([^"]*)$/
const among = /\balert\.([\w.-]+)\s+in\s*\[(?:\s*"[^"]*"\s*,)*\s*"([^"]*)$/

/** What may follow in a condition, from what alerts said so far: names of fields, or the values of one. */
export function offered(before: string, seen: Schemas['Seen'][]): { from: number; options: string[] } | null {
  const value = compared.exec(before) ?? among.exec(before)
  if (value) {
    const options = seen.filter((s) => s.field === value[1]).map((s) => s.value)
    return options.length ? { from: before.length - (value[2]?.length ?? 0), options } : null
  }
  const field = path.exec(before)
  if (!field) return null
  return { from: field.index, options: [...new Set(seen.map((s) => `alert.${s.field}`))].sort() }
}
