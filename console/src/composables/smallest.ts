/** The smallest stretch of a text that has to be replaced to make it another one. */
export function smallest(was: string, now: string): { from: number; to: number; insert: string } {
  let from = 0
  while (from < was.length && from < now.length && was[from] === now[from]) from++
  let end = 0
  while (end < was.length - from && end < now.length - from && was.at(-1 - end) === now.at(-1 - end)) end++
  return { from, to: was.length - end, insert: now.slice(from, now.length - end) }
}
