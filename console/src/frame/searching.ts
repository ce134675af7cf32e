import { ref } from 'vue'

/** Whether the search lies over the page; keys and the bar open it. */
export const searching = ref(false)
