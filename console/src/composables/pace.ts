/** The least time between two readings of one thing, in milliseconds. */
export const least = 100

/** What an event seldom alters, or costs more to tell, by the last part of its key: it is read less often. */
const slower: Record<string, number> = { standing: 1000, around: 2000, suggestions: 2000, looks: 1000, back: 2000 }

/** The least time between two readings of what a key names. */
export const apart = (key: readonly unknown[]) => slower[String(key.at(-1))] ?? least

/**
 * How often one thing is read while events come: at once, then once in `least`. What is under way lands, and is read
 * once more where an event came meanwhile. Nothing is cancelled.
 */
export class Pace {
  private busy = false
  private again = false
  private at = -Infinity

  constructor(
    private readonly read: () => Promise<unknown>,
    private readonly apart = least,
    private readonly now = () => performance.now(),
    private readonly wait = (ms: number) => new Promise((go) => setTimeout(go, ms)),
  ) {}

  /** An event came. `under` is a reading that somebody else began, and that may lack what the event is about. */
  async stale(under?: Promise<unknown>): Promise<void> {
    this.again = true
    if (this.busy) return
    this.busy = true
    try {
      await under?.catch(() => {}) // whoever began it is told
      while (this.again) {
        const left = this.at + this.apart - this.now()
        if (left > 0) await this.wait(left)
        this.again = false
        this.at = this.now()
        await this.read().catch(() => {}) // the page says what is wrong
      }
    } finally {
      this.busy = false
    }
  }
}
