import { onUnmounted, ref } from 'vue'

/** The time now, moving once a second while somebody looks. */
export function useClock() {
  const now = ref(Date.now())
  const t = window.setInterval(() => (now.value = Date.now()), 1000)
  onUnmounted(() => window.clearInterval(t))
  return now
}

export function span(ms: number): string {
  const s = Math.max(0, ms) / 1000
  if (s < 1) return `${Math.round(s * 1000)} ms`
  if (s < 60) return `${s < 10 ? s.toFixed(1) : Math.round(s)} s`
  if (s < 3600) return `${Math.floor(s / 60)} min ${Math.round(s % 60)} s`
  return `${Math.floor(s / 3600)} h ${Math.round((s % 3600) / 60)} min`
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
