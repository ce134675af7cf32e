import { toValue, type MaybeRefOrGetter } from 'vue'

/** What was typed and is not pushed yet, and the text that it was written on. */
export interface Draft {
  base: string
  text: string
}

/** Keeps what somebody types in this browser until it is pushed, whatever becomes of the page. */
export function useDraft(of: MaybeRefOrGetter<string>) {
  const key = () => `urgentis-draft ${toValue(of)}`
  return {
    read(): Draft | undefined {
      try {
        return JSON.parse(localStorage.getItem(key()) ?? 'null') ?? undefined
      } catch {
        return undefined
      }
    },
    keep(base: string, text: string) {
      try {
        if (text === base) localStorage.removeItem(key())
        else localStorage.setItem(key(), JSON.stringify({ base, text }))
      } catch {
        // The browser has no room: the page has it all the same.
      }
    },
    forget: () => localStorage.removeItem(key()),
  }
}
