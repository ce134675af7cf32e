import { watchEffect, type Ref } from 'vue'
import { useRoute } from 'vue-router'

/** The page's icon, with a lamp while something waits. */
const icon = (waits: boolean) =>
  'data:image/svg+xml,' +
  encodeURIComponent(
    '<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 32 32"><rect width="32" height="32" rx="7" fill="#14514e"/>' +
      '<path d="M7 8v9a9 9 0 0 0 18 0V8" fill="none" stroke="#e9f4f1" stroke-width="4" stroke-linecap="round"/>' +
      (waits ? '<circle cx="24" cy="8" r="8" fill="#f0b34e"/>' : '<circle cx="16" cy="8" r="2.6" fill="#e2a336"/>') +
      '</svg>',
  )

/** Tells in the title and the icon of the page how many wait, for whoever has it in a tab behind others. */
export function useTitle(count: Ref<number>, badge: Ref<number>) {
  const route = useRoute()
  watchEffect(() => {
    const page = route.params.number ? `Incident ${String(route.params.number)}` : String(route.meta.title ?? '')
    document.title = `${count.value ? `(${count.value}) ` : ''}${page ? `${page} · ` : ''}Urgentis`
    const link = document.querySelector<HTMLLinkElement>('link[rel=icon]')
    if (link) link.href = badge.value ? icon(true) : '/icon.svg'
  })
}
