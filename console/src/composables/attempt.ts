import { ref } from 'vue'

import { Refusal } from '../api/client'

/** What somebody tries from a page: whether it is under way, and in `wrong` what the service said against it. */
export function useAttempt() {
  const wrong = ref('')
  const busy = ref(false)
  async function attempt(what: () => Promise<unknown>, then?: () => void) {
    wrong.value = ''
    busy.value = true
    try {
      await what()
      then?.()
    } catch (e) {
      wrong.value = e instanceof Refusal ? e.message : String(e)
    } finally {
      busy.value = false
    }
  }
  return { wrong, busy, attempt }
}
