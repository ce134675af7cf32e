import { createSharedComposable, useTimestamp } from '@vueuse/core'
import { computed, ref } from 'vue'

/** The time now in milliseconds, moving once a second while somebody looks. One clock for the whole page. */
export const useClock = createSharedComposable(() => {
  const own = useTimestamp({ interval: 1000 })
  return computed(() => own.value + ahead.value)
})

/** How far the service's clock is ahead of this machine's, in milliseconds: ages are told by the service's. */
const ahead = ref(0)

/** Takes in the time at which the service answered; it tells whole seconds, so that less than two say nothing. */
export function heardAt(date: string | null, now = Date.now()) {
  const by = Date.parse(date ?? '') - now
  if (Number.isNaN(by)) return
  ahead.value = Math.abs(by) < 2000 ? 0 : by
}

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
/** The zone as it stands beside a time. */
export const zoneShort =
  new Intl.DateTimeFormat('en-GB', { timeZoneName: 'short' }).formatToParts().find((p) => p.type === 'timeZoneName')
    ?.value ?? zone
