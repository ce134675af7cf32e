import type { Schemas } from '../api/client'

/** Why somebody is asked: as who is on call, as a member, or for what they may do. */
export function asWho(ask: string, teams: Schemas['OnCall'][], me: string): string {
  const name = ask.replace(/^(team|on-call)\//, '')
  const t = teams.find((x) => x.team === name)
  if (!t) return ask === `person/${me}` ? 'by name' : ''
  const title = t.title || t.team
  const line = t.duties.find((d) => d.person === me)?.line
  if (line !== undefined) {
    const word = ['primary', 'secondary'][line - 1] ?? `in line ${line}`
    return `as ${word} on call for ${title}`
  }
  return t.members.includes(me) ? `as one of ${title}` : `for ${title}, as you may approve`
}
