import { diff3Merge } from 'node-diff3'

/** A place at which two people wrote different things: what each wrote, and what stood there. */
export interface Conflict {
  mine: string[]
  base: string[]
  theirs: string[]
}

export type Piece = string[] | Conflict

export const isConflict = (p: Piece): p is Conflict => !Array.isArray(p)

/**
 * What one person wrote (`mine`) and what another pushed meanwhile (`theirs`), both on the same text (`base`), put
 * together by lines. What both wrote alike is no conflict.
 */
export function merge(base: string, mine: string, theirs: string): Piece[] {
  const lines = (t: string) => t.split('\n')
  return diff3Merge(lines(mine), lines(base), lines(theirs), { excludeFalseConflicts: true }).map((r) =>
    r.ok ? r.ok : { mine: r.conflict?.a ?? [], base: r.conflict?.o ?? [], theirs: r.conflict?.b ?? [] },
  )
}

export type Choice = 'mine' | 'theirs' | 'both'

/** The text, with each conflict as it was chosen. */
export function chosen(pieces: Piece[], choices: Choice[]): string {
  let n = 0
  return pieces
    .flatMap((p) => {
      if (!isConflict(p)) return p
      const c = choices[n++] ?? 'both'
      return c === 'mine' ? p.mine : c === 'theirs' ? p.theirs : [...p.mine, ...p.theirs]
    })
    .join('\n')
}
