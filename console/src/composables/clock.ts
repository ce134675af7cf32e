import { createSharedComposable, useTimestamp } from '@vueuse/core'

/** The time now in milliseconds, moving once a second while somebody looks. One clock for the whole page. */
export const useClock = createSharedComposable(() => useTimestamp({ interval: 1000 }))

export function span(ms: number): string {
  if (ms < 1000) return `${Math.round(Math.max(0, ms))} ms`
  if (ms < 9950) return `${(ms / 1000).toFixed(1)} s`
  // Rounded once, to what is shown: 59.6 s is 1 min, not 0 min 60 s.
  const s = Math.round(ms / 1000)
  if (s < 60) return `${s} s`
  if (s < 3600) return `${Math.floor(s / 60)} min ${s % 60} s`
  const min = Math.round(s / 60)
  return `${Math.floor(min / 60)} h ${min % 60} min`
}

export function relative(at: string, now: number): string {
  const ms = now - Date.parse(at)
  if (ms < 0) return `in ${span(-ms)}`
  return ms < 2000 ? 'now' : `${span(ms)} ago`
}

const zone = Intl.DateTimeFormat().resolvedOptions().timeZone
const dateTime = new Intl.DateTimeFormat('en-GB', { dateStyle: 'medium', timeStyle: 'medium' })
const timeOnly = new Intl.DateTimeFormat('en-GB', { timeStyle: 'medium' })

export const exact = (at: string) => `${dateTime.format(new Date(at))} ${zone}`
export const clockTime = (at: string) => timeOnly.format(new Date(at))
export const zoneName = zone
