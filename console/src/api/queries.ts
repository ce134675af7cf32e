import { QueryClient } from '@tanstack/vue-query'

import { Refusal } from './client'

/** What is known of the service, in one place: who signs out takes all of it along. */
export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 5_000,
      retry: (n, e) => n < 2 && !(e instanceof Refusal && e.status >= 400 && e.status < 500),
    },
  },
})
