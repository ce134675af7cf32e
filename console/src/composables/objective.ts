import type { Schemas } from '../api/client'

/** A share as a percentage, rounded down, so that it claims no more than there is. */
export function percent(share: number | undefined): string {
  if (share === undefined) return 'not known'
  const y = share * 100
  if (y < 0) return `${y.toFixed(1)} %`
  if (y >= 99 && y < 100) return `${(Math.floor(y * 1000) / 1000).toFixed(3)} %`
  return `${(Math.floor(y * 10) / 10).toFixed(1)} %`
}

/** How fast a budget burns: over the first time in which it does so too fast, or over the shortest. */
export function burnSays(o: Schemas['Objective']): string {
  const on = o.burns.find((b) => b.on)
  if (on) return `burn rate ${on.long.toFixed(1)}× (${on.over}), too fast`
  const first = o.burns[0]
  return first ? `burn rate ${first.long.toFixed(1)}× (${first.over})` : ''
}

/** How an objective stands, in a word, for lists: the worst first. */
export function standing(o: Schemas['Objective']): { word: string; bad: boolean; rank: number } {
  if (o.broken) return { word: 'cannot be read', bad: true, rank: 0 }
  if (o.left !== undefined && o.left <= 0) return { word: 'spent', bad: true, rank: 1 }
  if (o.burns.some((b) => b.on)) return { word: 'burn rate too high', bad: true, rank: 2 }
  if (o.blind) return { word: 'not known', bad: false, rank: 3 }
  return { word: 'kept', bad: false, rank: 4 }
}
